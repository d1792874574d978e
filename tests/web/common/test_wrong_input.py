"""What is sent wrongly: numbers that are none, addresses of others, forms sent twice, files that unpack beyond all measure."""

import io
import re
import zipfile
from datetime import UTC, datetime
from urllib.parse import quote, urlencode

import polars as pl
import pytest
from django.db.utils import OperationalError
from django.test import Client
from django.urls import get_resolver

from nembrit.core.errors import InputError, LogReadError
from nembrit.core.formats import parquet
from nembrit.core.formats.archive import members_of
from nembrit.core.progress import no_progress
from nembrit.web.bench import results
from nembrit.web.common import database, fields
from nembrit.web.common.seen import seen_of
from nembrit.web.hangar.models import Craft
from nembrit.web.intake import services as intake
from nembrit.web.logs import places
from nembrit.web.logs.models import Log
from nembrit.web.tunes.models import Slip
from tests.flying import log_file
from tests.pageforms import fields_of

WRONG = ("²", "9223372036854775808", "nan", "inf", "-1", "1e999", "’; --", "", "0x10", "٣", "1" * 400)


@pytest.mark.parametrize("text", WRONG)
def test_what_is_no_number_of_a_row_is_none(text: str) -> None:
    assert fields.row_number(text) is None
    assert fields.row_numbers([text, "7", text]) == [7]


@pytest.mark.parametrize(
    ("text", "low", "high", "told"),
    [
        ("²", 0, 9, "should be a number, not “²”"),
        ("nan", 0, 9, "should be a number"),
        ("1e999", 0, 9, "should be a number"),
        ("9.1", 0, 9, "goes from 0 to 9, got 9.1"),
        ("-0.1", 0, 9, "goes from 0 to 9"),
        (None, 0, 9, "should be a number"),
    ],
)
def test_what_is_no_number_is_a_sentence(text: object, low: float, high: float, told: str) -> None:
    with pytest.raises(InputError, match="a width " + told.replace("(", r"\(")):
        fields.number(text, "a width", low=low, high=high)


@pytest.mark.parametrize(("text", "value"), [("2,5", 2.5), (" 9 ", 9.0), ("0", 0.0), ("1e-3", 0.001)])
def test_numbers_come_with_point_or_comma(text: str, value: float) -> None:
    assert fields.number(text, "a width", low=0, high=9) == value


@pytest.mark.parametrize(("year", "is_kept"), [(1, False), (1989, False), (1990, True), (2200, False), (9999, False)])
def test_dates_lie_within_sense(year: int, is_kept: bool) -> None:
    at = datetime(year, 6, 1, tzinfo=UTC)
    if is_kept:
        assert fields.moment(at) == at
    else:
        with pytest.raises(InputError, match="between 1990 and 2200"):
            fields.moment(at)


ADDRESSES = (
    "/configurations/{configuration}/?against={value}",
    "/craft/{craft}/simulator/?jobs={value}",
    "{flight}sensors/?swap={value}",
    "{flight}aligned/?with={value}",
    "{flight}noise/?with={value}",
    "{flight}noise/?low={value}",
    "{flight}response/?axis={value}",
    "{flight}trace/?from=1&to=2&channels={value}",
    "{flight}trace/?from={value}&to=2",
    "{flight}trace/?from=1&to=2&columns={value}",
    "{flight}spectrum/?from=1&to=2&channel={value}",
    "{flight}measures/?from=1&to={value}",
    "{flight}track/?colour={value}",
    "{flight}vibration/?speed_rpm={value}",
    "/logs/{log}/?segment={value}",
    "/logs/{log}/export/?stream={value}&form=csv&from=1&to=2&channel={value}",
    "/craft/{value}/",
    "/craft/1/flights/{value}/",
    "/flights/{value}/",
)
FORMS = (
    ("/logs/{log}/move/", "to"),
    ("/logs/{log}/manoeuvre/", "row"),
    ("/logs/{log}/manoeuvre/", "start_s"),
    ("/logs/{log}/split/", "stretch"),
    ("/segments/{segment}/window/", "start_s"),
    ("/segments/{segment}/alignment/", "offset_s"),
    ("/import-profiles/", "profile"),
    ("{flight}edit/", "wind_m_s"),
    ("/craft/{craft}/simulator/", "seed"),
    ("/craft/{craft}/slips/new/", "revision"),
    ("/inbox/", "modified"),
)


@pytest.mark.long("hundreds of pages; the table of addresses is always asked")
def test_no_address_and_no_form_breaks_a_page(client: Client, craft: Craft, attach) -> None:
    segment = attach().segments.get()
    configuration = craft.configurations.get().pk
    names = {"craft": craft.pk, "flight": segment.flight.get_absolute_url(), "log": segment.log_id, "segment": segment.pk}
    plain = {"start_s": "3", "end_s": "9", "offset_s": "0", "skew_ppm": "0", "kind": "hover", "group": "pd.roll"}
    broken = []
    for value in WRONG:
        for address in ADDRESSES:
            told = client.get(address.format(**names, configuration=configuration, value=quote(value)))
            if told.status_code not in (200, 302, 400, 404):
                broken.append((address, value, told.status_code))
        for address, field in FORMS:
            told = client.post(address.format(**names), plain | {field: value})
            if told.status_code not in (200, 302, 400, 404, 409):
                broken.append((address, field, value, told.status_code))
    assert not broken


def table_of_addresses() -> list[tuple[str, dict[str, str]]]:
    """Every address of the workshop, with the converter of each argument."""
    found: list[tuple[str, dict[str, str]]] = []

    def walk(patterns: list, before: str) -> None:
        for one in patterns:
            if hasattr(one, "url_patterns"):
                walk(one.url_patterns, before + str(one.pattern))
            else:
                found.append((before + str(one.pattern), {n: type(c).__name__ for n, c in one.pattern.converters.items()}))

    walk(get_resolver().url_patterns, "")
    return found


ARGUMENTS = {
    "flight_id", "log_id", "segment_id", "recording_id",  # sealed during a blind comparison
    "craft_id", "job_id", "phone_id", "name", "outing_id", "configuration_id", "slip_id", "tune_id", "experiment_id", "turn_id",
    "pack_id", "session_id", "obstacle_id", "profile_id", "waiting_id", "card_id", "key", "number", "from_number",
    "axis", "form", "kind", "rest",
}  # fmt: skip


def test_every_argument_of_an_address_is_known_to_the_seal() -> None:
    """A new name must be looked at: does its page show anything of a flight?"""
    assert {name for _, arguments in table_of_addresses() for name in arguments} <= ARGUMENTS


@pytest.mark.parametrize("value", [2**63, 10**40, 2**63 - 1], ids=["one more", "many digits", "largest"])
def test_no_number_in_any_address_breaks_a_page(client: Client, craft: Craft, value: int) -> None:
    """All addresses with every number too large for the database; what asks for a form says so, the rest is not there."""
    broken = []
    for address, arguments in table_of_addresses():
        if "IntConverter" not in arguments.values():
            continue
        for name, converter in arguments.items():
            given = str(value) if converter == "IntConverter" else "1" if converter == "FlightAddress" else "x"
            address = re.sub(rf"<[^>]*\b{name}>", given, address)
        for answer in (client.get(f"/{address}"), client.post(f"/{address}")):
            if answer.status_code >= 500 or answer.status_code == 200:
                broken.append((address, answer.status_code))
    assert not broken


@pytest.mark.parametrize(
    ("back", "leads_to"),
    [("https://elsewhere.example/", ""), ("//elsewhere.example", ""), ("javascript:1", ""), ("/inbox/", "/inbox/")],
)
def test_the_way_back_stays_in_the_workshop(client: Client, craft: Craft, back: str, leads_to: str) -> None:
    log = Log.objects.create(craft=craft, file_name="a.csv")
    answer = client.post(f"/logs/{log.pk}/move/", {"to": "nowhere", "back": back})
    assert answer["Location"] == (leads_to or log.get_absolute_url())


def test_every_answer_carries_its_rules(client: Client, db: None) -> None:
    for address in ("/", "/about/", "/static/common/page.js", "/nothing/"):
        answer = client.get(address)
        assert "script-src 'self'" in answer["Content-Security-Policy"]
        assert "unsafe" not in answer["Content-Security-Policy"]
    answer = client.get("/")
    assert (answer["X-Content-Type-Options"], answer["Referrer-Policy"], answer["X-Frame-Options"]) == (
        "nosniff",
        "same-origin",
        "DENY",
    )


class TestTokens:
    @pytest.fixture
    def strict(self, db: None) -> Client:
        return Client(enforce_csrf_checks=True)

    @pytest.mark.parametrize("how", ["field", "address", "header", "none"])
    def test_a_form_with_files_is_checked_before_they_are_read(self, strict: Client, how: str) -> None:
        token = fields_of(strict.get("/backup/").content.decode())["csrfmiddlewaretoken"]
        file = io.BytesIO(b"nonsense")
        file.name = "a.csv"
        data = {"files": file} | ({"csrfmiddlewaretoken": token} if how == "field" else {})
        address = f"/inbox/?token={token}" if how == "address" else "/inbox/"
        headers = {"X-CSRFToken": token} if how == "header" else {}
        answer = strict.post(address, data, headers=headers)
        assert answer.status_code == (200 if how in ("address", "header") else 403)
        if answer.status_code == 403:
            assert "Nothing was changed" in answer.content.decode()

    def test_a_plain_form_keeps_its_token_in_a_field(self, strict: Client) -> None:
        form = fields_of(strict.get("/craft/new/").content.decode())
        for changed, status in (({"name": "Tern"}, 302), ({"name": "Gull", "csrfmiddlewaretoken": "x"}, 403)):
            sent = urlencode(form | changed)
            answer = strict.post("/craft/new/", sent, content_type="application/x-www-form-urlencoded")
            assert answer.status_code == status


class TestSentTwice:
    """The same form, as a double click sends it: one thing is made, and both lead to it."""

    def twice(self, client: Client, address: str, **filled: str) -> list[str]:
        form = fields_of(client.get(address).content.decode()) | filled
        return [client.post(address, form)["Location"] for _ in range(2)]

    def test_a_craft(self, client: Client, db: None) -> None:
        first, second = self.twice(client, "/craft/new/", name="Tern")
        assert (first == second, Craft.objects.count()) == (True, 1)

    def test_a_build_entry(self, client: Client, craft: Craft) -> None:
        first, second = self.twice(client, f"/craft/{craft.pk}/builds/new/", part="new arms")
        assert (first == second, craft.build_entries.filter(part="new arms").count()) == (True, 1)

    def test_a_configuration(self, client: Client, craft: Craft) -> None:
        address = f"/craft/{craft.pk}/configurations/new/"
        first, second = self.twice(client, address, text="p on roll = 1\n", shown=seen_of(["p on roll = 1"]))
        assert (first == second, craft.configurations.count()) == (True, 2)

    def test_a_slip(self, client: Client, craft: Craft) -> None:
        address = f"/craft/{craft.pk}/slips/new/?group=pd.roll"
        first, second = self.twice(client, address, **{"value-d on roll": "24", "title": "less D"})
        assert (first == second, Slip.objects.count()) == (True, 1)

    def test_another_form_makes_another(self, client: Client, craft: Craft) -> None:
        for _ in range(2):
            client.post(f"/craft/{craft.pk}/builds/new/", fields_of(client.get(f"/craft/{craft.pk}/builds/new/").content.decode())
                        | {"part": "new arms"})  # fmt: skip
        assert craft.build_entries.filter(part="new arms").count() == 2


class TestUnpacking:
    def test_a_parquet_file_says_how_large_it_is_before_it_is_read(self, monkeypatch: pytest.MonkeyPatch, db: None) -> None:
        packed = io.BytesIO()
        pl.select(pl.repeat(1.0, 160_000_000, dtype=pl.Float32).alias("t")).write_parquet(packed)
        content = packed.getvalue()
        assert len(content) < 1_000_000
        monkeypatch.setattr(pl, "read_parquet", lambda *a: pytest.fail("it was read"))
        with pytest.raises(LogReadError, match="160 million numbers"):
            parquet.check_size(content)

    def test_the_web_process_never_unpacks_a_small_one(self, monkeypatch: pytest.MonkeyPatch, craft: Craft) -> None:
        packed = io.BytesIO()
        pl.DataFrame({"time [s]": [0.0, 0.1], "gyro.roll [deg/s]": [1.0, 2.0]}).write_parquet(packed)
        monkeypatch.setattr(pl, "read_parquet", lambda *a: pytest.fail("it was read"))
        intake.check_small(packed.getvalue())

    @pytest.mark.parametrize("limit", [parquet.MOST_VALUES, 3])
    def test_just_below_and_just_above_the_limit(self, monkeypatch: pytest.MonkeyPatch, limit: int) -> None:
        packed = io.BytesIO()
        pl.DataFrame({"a": [1.0, 2.0], "b": [1.0, 2.0]}).write_parquet(packed)
        monkeypatch.setattr(parquet, "MOST_VALUES", limit)
        if limit >= 4:
            parquet.check_size(packed.getvalue())
        else:
            with pytest.raises(LogReadError, match="split it first"):
                parquet.check_size(packed.getvalue())

    def test_a_member_s_name_is_one_line(self, client: Client, craft: Craft) -> None:
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("logs/one\r\nX-Evil: 1\x00.csv", log_file(5, 1.0))
        (member,) = members_of("a.zip", packed.getvalue())
        assert member.name == "one  X-Evil: 1"  # zip itself ends a name at a zero byte
        intake.receive_file(craft, "a.zip", packed.getvalue(), flight_fields={})
        log = Log.objects.get()
        assert "\n" not in log.file_name
        answer = client.get(f"/logs/{log.pk}/export/", {"form": "csv", "from": "0", "to": "1"})
        assert answer.status_code in (200, 400)


@pytest.mark.parametrize(
    ("error", "status", "told"),
    [
        (OperationalError("database is locked"), 503, "The workshop is locked by something else,"),
        (OperationalError("database or disk is full"), 507, "The disk is full"),
        (OSError(28, "No space left on device"), 507, "The disk is full"),
        (OperationalError("unable to open database file"), 503, "is gone, damaged or may not be written to"),
        (OperationalError("no such table: hangar_craft"), 503, "is gone, damaged"),
        (OperationalError("database disk image is malformed"), 503, "is gone, damaged"),
    ],
)
def test_a_fault_of_the_file_or_the_disk_is_named(
    monkeypatch: pytest.MonkeyPatch, db: None, error: Exception, status: int, told: str
) -> None:
    def fail(*args: object, **options: object) -> None:
        raise error

    monkeypatch.setattr("nembrit.web.tunes.views.craft.render", fail)
    answer = Client(raise_request_exception=False).get("/")
    assert (answer.status_code, told in answer.content.decode()) == (status, True)


def test_other_errors_are_no_fault_of_the_file() -> None:
    assert database.sentence_of(ValueError("no such table")) is None
    assert database.sentence_of(OperationalError("near SELECT: syntax error")) is None
    assert database.sentence_of(None) is None


def test_a_log_that_is_moved_while_it_is_analysed_keeps_its_place(attach, monkeypatch: pytest.MonkeyPatch) -> None:
    first, second = attach(), attach(log_file(6, 1.0), name="b.csv")
    segment = first.segments.get()
    segment.results.all().delete()
    analyse = results.analyse

    def move(*given: object, **options: object) -> object:
        if first.segments.exists():
            places.move_to(segment.log, second)
        return analyse(*given, **options)

    monkeypatch.setattr(results, "analyse", move)
    for _ in range(2):  # the second time its span is gone from the start
        results.make_results(segment.pk, no_progress)
    assert not first.segments.exists()
    assert second.segments.count() == 2
