"""The local network: only who gave the passphrase comes in, and this computer's own pages stay its own."""

import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import pytest
from django.core.checks import run_checks
from django.test import Client

from nembrit.core.errors import InputError
from nembrit.web.common import lan
from nembrit.web.common.models import Job, Phone
from nembrit.web.common.passphrase import new_passphrase
from nembrit.web.hangar.models import Craft

PHONE, OTHER, HOST = "192.168.7.20", "192.168.7.66", "192.168.7.5"


@pytest.fixture
def phrase(settings, tmp_path) -> str:
    settings.LAN_HOSTS = [HOST]
    settings.ALLOWED_HOSTS = ["127.0.0.1", "localhost", "testserver", HOST]
    settings.DATA_FOLDER = tmp_path
    return new_passphrase(tmp_path)


def from_(address: str) -> Client:
    return Client(REMOTE_ADDR=address, HTTP_HOST=f"{HOST}:8460")


def come_in(phrase: str, address: str = PHONE) -> Client:
    client = from_(address)
    assert client.post("/enter/", {"passphrase": phrase, "next": "/cards/"})["Location"] == "/cards/"
    return client


def test_nobody_comes_in_without_the_passphrase(craft: Craft, phrase: str) -> None:
    client = from_(PHONE)
    for address in ("/", f"/craft/{craft.pk}/", "/backup/", "/phones/", "/nowhere/", "/jobs/1/"):
        answer = client.get(address)
        assert answer.status_code == 302, address
        assert answer["Location"].startswith("/enter/?next=")
    for address in ("/", f"/craft/{craft.pk}/logs/attach/", "/backup/restore/", "/phones/1/end/"):
        assert client.post(address, {"a": "b"}).status_code == 403
    page = client.get("/enter/").content.decode()
    assert "Passphrase" in page
    assert "Pebble" not in page, "the entrance tells nothing of the workshop"


@pytest.mark.parametrize("header", ["HTTP_X_FORWARDED_FOR", "HTTP_X_REAL_IP", "HTTP_FORWARDED", "HTTP_X_FORWARDED_HOST"])
def test_what_a_sender_says_of_itself_opens_nothing(craft: Craft, phrase: str, header: str) -> None:
    assert from_(PHONE).get("/", **{header: "127.0.0.1"}).status_code == 302


@pytest.mark.parametrize("address", ["", "unknown", "10.0.0.9", "127.0.0.1.evil", "::ffff:192.168.7.20"])
def test_only_the_connection_tells_which_is_this_computer(craft: Craft, phrase: str, address: str) -> None:
    assert Client(REMOTE_ADDR=address).get("/").status_code == 302
    assert Client(REMOTE_ADDR="127.0.0.1").get("/").status_code == 200
    assert Client(REMOTE_ADDR="::1").get("/").status_code == 200


def test_a_phone_comes_in_stays_in_and_is_sent_away(craft: Craft, phrase: str) -> None:
    phone, own = come_in(phrase), Client()
    assert phone.get("/").status_code == 200
    assert phone.get(f"/craft/{craft.pk}/field/").status_code == 200
    for address in ("/phones/", "/phones/code.svg", "/backup/"):
        assert phone.get(address).status_code == 403
        assert own.get(address).status_code == 200
    page = own.get("/phones/").content.decode()
    assert f"http://{HOST}" in page
    assert PHONE in page
    own.post(f"/phones/{Phone.objects.get().pk}/end/")
    assert phone.get("/").status_code == 302
    assert "Nobody yet" in own.get("/phones/").content.decode()


def test_marks_are_signed_and_run_out(craft: Craft, phrase: str, monkeypatch: pytest.MonkeyPatch) -> None:
    phone = come_in(phrase)
    mark = phone.cookies[lan.COOKIE]
    assert mark["httponly"]
    assert mark["samesite"] == "Lax"
    for forged in ("", "x", mark.value[:-2] + "zz", Phone.objects.get().mark):
        phone.cookies[lan.COOKIE] = forged
        assert phone.get("/").status_code == 302
    phone.cookies[lan.COOKIE] = mark.value
    now = time.time()
    monkeypatch.setattr("django.core.signing.time.time", lambda: now + 31 * 86_400)
    assert phone.get("/").status_code == 302


def test_guesses_are_slowed_down_by_address(craft: Craft, phrase: str) -> None:
    client = from_(OTHER)
    told = [client.post("/enter/", {"passphrase": f"guess-{k}"}).content.decode().lower() for k in range(4)]
    assert ["too many wrong guesses" in one for one in told] == [False, False, False, True]
    assert "oo many wrong guesses" in client.post("/enter/", {"passphrase": phrase}).content.decode(), "the right one waits, too"
    assert not Phone.objects.exists()
    come_in(phrase)  # from elsewhere
    with closing(lan._guesses()) as counted:
        counted.execute("UPDATE guesses SET not_before = 0")
    come_in(phrase.upper().replace("-", "  ") + " ", OTHER)
    with closing(lan._guesses()) as counted:
        assert counted.execute("SELECT count(*) FROM guesses").fetchone() == (0,)


def test_guesses_at_once_are_tried_one_after_the_other(phrase: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """As two processes with many threads get them: three are tried, the others wait."""
    tried: list[int] = []
    monkeypatch.setattr(lan, "_is_right", lambda given: tried.append(1) or time.sleep(0.02) or False)

    def guess(k: int) -> str:
        try:
            lan.enter(f"guess-{k}", address=OTHER, agent="")
        except InputError as error:
            return str(error)
        return "in"

    with ThreadPoolExecutor(24) as pool:
        told = list(pool.map(guess, range(48)))
    assert len(tried) == 3
    assert "in" not in told


@pytest.mark.parametrize(("kind", "status"), [("backup", 403), ("import_log", 200)])
@pytest.mark.parametrize("what", ["retry", "cancel"])
def test_a_phone_repeats_no_job_of_the_computer_s_own(craft: Craft, phrase: str, kind: str, status: int, what: str) -> None:
    job = Job.objects.create(kind=kind, subject_id=0, label="x", state=Job.State.FAILED)
    assert come_in(phrase).post(f"/jobs/{job.pk}/{what}/").status_code == status
    assert Client().post(f"/jobs/{job.pk}/{what}/").status_code == 200


@pytest.mark.parametrize("wanted", ["https://elsewhere.example/", "//elsewhere.example", "javascript:1"])
def test_the_way_on_stays_in_the_workshop(craft: Craft, phrase: str, wanted: str) -> None:
    assert from_(PHONE).post("/enter/", {"passphrase": phrase, "next": wanted})["Location"] == "/"


def test_the_entrance_checks_the_page_s_token(craft: Craft, phrase: str) -> None:
    strict = Client(enforce_csrf_checks=True, REMOTE_ADDR=PHONE, HTTP_HOST=f"{HOST}:8460")
    assert strict.post("/enter/", {"passphrase": phrase}).status_code == 403
    assert not Phone.objects.exists()


def test_without_lan_nobody_from_outside_is_answered(craft: Craft) -> None:
    for address in ("/", "/enter/"):
        assert Client(REMOTE_ADDR=PHONE).get(address).status_code == 403
    assert "on this computer only" in Client().get("/phones/").content.decode()
    assert Client().get("/phones/code.svg").status_code == 404


def test_only_a_hash_of_the_passphrase_is_kept(phrase: str, settings) -> None:
    kept = (settings.DATA_FOLDER / "lan.json").read_text()
    assert phrase not in kept
    assert (settings.DATA_FOLDER / "lan.json").stat().st_mode & 0o077 == 0
    assert len(phrase) == 14
    assert new_passphrase(settings.DATA_FOLDER) != phrase


def test_nothing_but_what_plain_http_cannot_give_stands_against_serving_phones(phrase: str, settings, monkeypatch) -> None:
    """Django's own list for deployments; what is silenced is named in the README."""
    monkeypatch.delenv("DJANGO_ALLOW_ASYNC_UNSAFE", raising=False)  # browser tests of the same run set it
    told = [one for one in run_checks(include_deployment_checks=True) if not one.is_silenced()]
    assert told == []
    readme = (Path(__file__).parents[3] / "README.md").read_text()
    assert all(one.removeprefix("security.") in readme for one in settings.SILENCED_SYSTEM_CHECKS)
