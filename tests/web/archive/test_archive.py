"""A craft or the workshop as one file and back again, and files that must not be taken in."""

import io
import json
import sqlite3
import zipfile
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime

import polars as pl
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client

from nembrit.core.errors import InputError
from nembrit.core.formats.bundle import as_json, open_bundle, write_bundle
from nembrit.core.telemetry.alarms import KINDS as ALARMS
from nembrit.core.wing.checks.criteria import CHECKS
from nembrit.web.archive import exports
from nembrit.web.archive.reading import read_archive
from nembrit.web.archive.shape import KINDS, fields_of
from nembrit.web.archive.writing import write_archive
from nembrit.web.bench import checks
from nembrit.web.bench.models import StoredDecision, StoredResult
from nembrit.web.common.database import snapshot
from nembrit.web.common.models import Job
from nembrit.web.flights.composing import keep_card
from nembrit.web.flights.models import FieldTap, Outing
from nembrit.web.flights.services import create_flight
from nembrit.web.ground import services as ground
from nembrit.web.hangar.models import Craft
from nembrit.web.logs import video
from nembrit.web.logs.models import Chunk, Log, Pyramid, Segment, Upload
from nembrit.web.logs.storage import load_recording
from nembrit.web.packs.models import Pack
from nembrit.web.planning.models import Session
from nembrit.web.telemetry.models import Alarm, LinkRead, Source
from nembrit.web.tunes import experiments, provoking, truths
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.waiting import keep

pytestmark = pytest.mark.django_db


@pytest.fixture
def full(craft: Craft, attach, slip_text) -> Craft:
    """A craft with something of everything that an archive holds."""
    text = replace(slip_text, despite="to see what it does")
    card = keep_card("multirotor", ["hover", "punch"], name="Mine")
    pack = Pack.objects.create(name="Red 1")
    pack.entries.create(kind="charged", rest_v=16.7)
    attach(pack="red 1", card_key=card.key, notes="a “quoted” note")
    Session.objects.create(
        craft=craft, starts_at=datetime(2027, 3, 6, tzinfo=UTC), what="Verify", place="by the brook", card_key=card.key
    )
    outing = Outing.objects.create(craft=craft, configuration=craft.configurations.get(), card_key=card.key)
    FieldTap.objects.create(outing=outing, uid="1", kind="buzz", at_s=3.5, data={"axis": "roll"})
    ground.add_obstacle(name="the oak", kind="Point", places=[(-1.5, 51.5)], height_m=22.0)
    ground.take_in_profile("hill.csv", "sea level", b"0,10\n100,12\n200,30\n", start=None, end=None)
    ground.write_rule(craft, ground.careful())
    flight = craft.flights.first()
    video.add_mark(flight, {"at": 2.5, "text": "a wobble"})
    video.save_sync(flight, {"name": "field.webm", "size": 5, "modified": 7, "pairs": [[0.0, 1.0]]})
    checks.set_limits(craft, CHECKS[0], {"distance_m": 40.0})
    checks.add_note(craft, CHECKS[0], {"distance_m": 45.0, "servo_jumps": 0.0}, note="wet grass")
    Source.objects.create(craft=craft, kind="udp", port=14_601)
    Alarm.objects.create(craft=craft, key=next(iter(ALARMS)), limit=3.5, delay_s=2.0, hysteresis=0.1)
    LinkRead.objects.create(craft=craft, settings={"d": "30"}, is_saved=True, configuration=craft.configurations.get())
    tune = tunes.tune_of(craft)
    repair = tunes.make_slip(tune, group="hardware", text=text, values={}, part="Propeller")
    attach(name="since.csv", content=_other())
    create_flight(craft, card_key=card.key)
    provoking.plan(repair, {"lowest_cell_v": 3.4}, fault="stripes")
    provoking.answer(repair, craft.flights.first(), came_back=False)
    tunes.decide(repair, "undo", note="it was not that")
    truths.tell(repair, "bearing", words="the front left bearing")
    slip = tunes.make_slip(tune, group="pd.roll", text=text, values={"d on roll": "30"})
    tunes.decide(slip, "keep")
    keep(tune, group="pd.pitch", also="", text=text, values={"d on pitch": "30"}, part="", confounded="")
    wanted = experiments.Wanted(
        question="Which?", card_key=card.key, metric="rating", direction="higher", design="blocks", repetitions=4, is_blind=False,
        words=("one", "two"),
    )  # fmt: skip
    asked = experiments.begin(craft, wanted, seed=1)
    experiments.reveal(asked)
    asked.refresh_from_db()
    experiments.keep_arm(asked, asked.arms.get(position=1))
    return craft


@pytest.fixture(autouse=True)
def no_exports() -> None:
    for path in exports.folder().iterdir():
        path.unlink()


@pytest.fixture
def small(craft: Craft, attach) -> Craft:
    """A craft with one small log and a flight."""
    attach(name="since.csv", content=_other())
    create_flight(craft, card_key="response")
    return craft


def _other() -> bytes:
    """Another short log, with positions."""
    n = 4000
    rows = [f"{k / 100:.2f},{51 + k * 1e-6:.6f},{-1.5 - k * 1e-6:.6f},{k % 7}" for k in range(n)]
    return ("time [s],latitude [deg],longitude [deg],altitude [m]\n" + "\n".join(rows) + "\n").encode()


def written(craft: Craft | None = None, **options: bool) -> bytes:
    file = io.BytesIO()
    write_archive(file, craft, **options)
    return file.getvalue()


def forget_all() -> None:
    """Every row of an archive's kinds, whatever points to whatever."""
    tables = [model._meta.db_table for model in (*(kind.model for kind in KINDS), Chunk, Pyramid, StoredResult, StoredDecision)]
    with connection.cursor() as cursor:
        for table in reversed(tables):
            cursor.execute(f'DELETE FROM "{table}"')


def altered(content: bytes, change: Callable[[str, bytes], tuple[str, bytes] | None], *, listed: bool = True) -> bytes:
    """The same archive with members changed; `listed` writes their digests anew, as somebody who knows the form would."""
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    manifest = json.loads(members.pop("manifest.json"))
    changed = dict(filter(None, (change(name, member) for name, member in members.items())))
    file = io.BytesIO()
    if listed:
        told = {name: value for name, value in manifest.items() if name not in ("schema", "members")}
        write_bundle(file, changed.items(), told=told)
        return file.getvalue()
    with zipfile.ZipFile(file, "w") as archive:
        for name, member in changed.items():
            archive.writestr(name, member)
        archive.writestr("manifest.json", as_json(manifest))
    return file.getvalue()


def swapped(old: bytes, new: bytes, *, listed: bool = True) -> Callable[[bytes], bytes]:
    """An archive with some words in its members exchanged."""
    return lambda content: altered(content, lambda name, member: (name, member.replace(old, new)), listed=listed)


def replaced(wanted: str, new: bytes | None, *, listed: bool = True) -> Callable[[bytes], bytes]:
    """An archive with one member exchanged, or without it."""

    def change(name: str, member: bytes) -> tuple[str, bytes] | None:
        if name != wanted:
            return name, member
        return None if new is None else (name, new)

    return lambda content: altered(content, change, listed=listed)


class TestRoundTrip:
    def test_the_workshop_comes_back_identically(self, full: Craft) -> None:
        first = written()
        with zipfile.ZipFile(io.BytesIO(first)) as archive:
            rows = {name: json.loads(archive.read(name)) for name in archive.namelist() if name.startswith("rows/")}
        empty = [name for name, own in rows.items() if not own]
        assert set(empty) <= {"rows/importprofile.json", "rows/answer.json", "rows/manoeuvre.json"}, "something of everything"
        before = load_recording(full.logs.order_by("pk").first())
        forget_all()
        assert not Craft.objects.exists()
        taken = read_archive(io.BytesIO(first))
        assert written() == first, "the same bytes again"
        after = load_recording(taken.craft[0].logs.order_by("pk").first())
        assert {role: values.tobytes() for role, values in after.channels.items()} == {
            role: values.tobytes() for role, values in before.channels.items()
        }

    def test_a_craft_comes_beside_another_of_its_name(self, client: Client, full: Craft) -> None:
        content = written(full)
        taken = read_archive(io.BytesIO(content))
        assert (taken.craft[0].name, taken.renamed) == ("Pebble (2)", {"Pebble": "Pebble (2)"})
        assert Pack.objects.count() == 1, "a pack that is here is used"
        assert client.get(taken.craft[0].get_absolute_url()).status_code == 200
        assert client.get(taken.craft[0].flights.first().get_absolute_url()).status_code == 200
        again = written(taken.craft[0])
        renamed = altered(again, lambda name, member: (name, member.replace(b"Pebble (2)", b"Pebble")))
        with zipfile.ZipFile(io.BytesIO(renamed)) as one, zipfile.ZipFile(io.BytesIO(content)) as other:
            differing = [name for name in other.namelist() if one.read(name) != other.read(name)]
        assert set(differing) <= {"manifest.json", "rows/session.json"}, "a calendar knows sessions by their own mark"

    def test_every_column_is_kept_or_left_out_on_purpose(self) -> None:
        left = {kind.name: kind.left_out for kind in KINDS if kind.left_out}
        assert left == {"upload": ("content", "waiting_name"), "stream": ("draft_of",), "experiment": ("kept_arm",)}
        assert all(fields_of(kind) for kind in KINDS)

    def test_positions_are_left_out_on_wish(self, full: Craft) -> None:
        content = written(full, with_places=False)
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            assert not [name for name in archive.namelist() if name.startswith("files/")]
            text = archive.read("rows/channel.json").decode() + archive.read("rows/session.json").decode()
            columns = [pl.read_parquet(archive.read(name)).columns for name in archive.namelist() if name.startswith("samples/")]
        assert "latitude" not in text
        assert "brook" not in text
        assert ["0", "3"] in columns
        forget_all()
        read_archive(io.BytesIO(content))
        assert written(Craft.objects.get(), with_places=False) == content
        assert not Segment.objects.filter(log__streams__channels__role="latitude").exists()


class TestRefusals:
    @pytest.mark.parametrize(
        ("spoil", "told"),
        [
            (lambda content: content[: len(content) // 2], "cut off or damaged"),
            (lambda _: b"PK\x03\x04 nothing", "cut off or damaged"),
            (lambda _: b"time,gyro\n1,2\n", "cut off or damaged"),
            (swapped(b"Pebble", b"Pebbl3", listed=False), "altered or damaged: rows/craft.json"),
            (replaced("rows/slip.json", None, listed=False), "rows/slip.json is missing"),
            (replaced("rows/slip.json", None), "lacks rows/slip.json"),
            (replaced("rows/flight.json", b"[["), "is no JSON"),
            (replaced("samples/1.parquet", b"PAR1"), "is no Parquet"),
            (swapped(b'"multirotor"', b'"submarine"'), "cannot be “submarine”"),
            (swapped(b'"cells":4', b'"cells":"many"'), "contains invalid data"),
            (swapped(b'"cells"', b'"password"'), "has other columns"),
            (swapped(b'"configuration":1', b'"configuration":99'), "contains invalid data"),
        ],
    )
    def test_what_is_not_whole_is_not_taken(self, small: Craft, spoil: Callable[[bytes], bytes], told: str) -> None:
        content = spoil(written(small))
        before = {kind.name: kind.model._base_manager.count() for kind in KINDS}
        with pytest.raises(InputError, match=told):
            read_archive(io.BytesIO(content))
        assert {kind.name: kind.model._base_manager.count() for kind in KINDS} == before, "nothing half taken"

    @pytest.mark.parametrize(
        ("name", "told"),
        [("../../evil.json", "names a path"), ("/etc/passwd", "names a path"), ("rows/a b.json", "names a path"),
         ("C:\\x.json", "names a path"), ("rows/extra.json", "is not part of it")],
    )  # fmt: skip
    def test_names_that_no_archive_has(self, name: str, told: str) -> None:
        file = io.BytesIO()
        with zipfile.ZipFile(file, "w") as archive:
            archive.writestr("manifest.json", as_json({"schema": "nembrit.archive/1", "members": {}}))
            archive.writestr(name, b"[]")
        with pytest.raises(InputError, match=told):
            open_bundle(file)

    @pytest.mark.parametrize(
        ("manifest", "told"),
        [
            ({"schema": "nembrit.archive/2", "members": {}}, "newer Nembrit"),
            ({"schema": "nembrit.card/1"}, "another kind of file"),
            ([], "another kind of file"),
            ({"schema": "nembrit.archive/1", "members": []}, "list of members"),
            ({"schema": "nembrit.archive/1", "members": {"rows/x.json": 4}}, "list of members"),
            (None, "has no manifest"),
        ],
    )
    def test_manifests_of_others(self, manifest: object, told: str) -> None:
        file = io.BytesIO()
        with zipfile.ZipFile(file, "w") as archive:
            if manifest is not None:
                archive.writestr("manifest.json", as_json(manifest))
        with pytest.raises(InputError, match=told):
            open_bundle(file)

    @pytest.mark.parametrize(
        ("member", "column", "value"),
        [
            ("slip", "extensions", ["many"]), ("slip", "extensions", {"a": 1}), ("slip", "prediction", {"metrics": [1]}),
            ("slip", "prediction", {"metrics": {"overshoot.roll": [1, 2]}}), ("slip", "limits", [{"metric": "x"}]),
            ("slip", "group", "luck"), ("slip", "primary_metric", "luck"), ("slip", "provoke", {"conditions": 3}),
            ("slip", "looks", [{"at": "x"}]), ("slip", "title", "a\x00b"), ("waitingslip", "text", {"title": "x"}),
            ("waitingslip", "values", {"p": [1]}), ("decision", "comparison", {"metrics": [3]}), ("tune", "verification", [1]),
            ("experiment", "design", "luck"), ("experiment", "sealed_order", "c2VjcmV0"), ("experiment", "metric", "\ud800"),
            ("craft", "name", ""), ("craft", "name", "\x00"), ("craft", "mass_g", 1e300),
            ("flight", "flown_at", "0001-01-01T00:00:00Z"),
            ("flight", "flown_at", "9999-12-31T00:00:00Z"), ("log", "request", {"flight": 3}),
            ("log", "applied_mapping", {"tables": [3]}),
            ("log", "quality", [3]), ("channel", "labels", [3]), ("segment", "alignment", {"offset_s": "x"}),
            ("fieldtap", "data", {"what": [1]}), ("owncard", "document", {"schema": "nembrit.card/1"}),
            ("obstacle", "places", [[1]]),
            ("source", "meanings", [{"name": 3}]), ("linkread", "settings", {"a": 1}), ("truth", "measured", {"a": "x"}),
        ],
        ids=lambda one: str(one)[:24],
    )  # fmt: skip
    def test_documents_of_another_form_are_not_taken(self, full: Craft, member: str, column: str, value: object) -> None:
        """Pages rest on their form: what has another would be an error on every page that shows it."""

        def change(name: str, content: bytes) -> tuple[str, bytes]:
            if name != f"rows/{member}.json":
                return name, content
            rows = json.loads(content)
            assert column in rows[0]
            rows[0][column] = value
            return name, json.dumps(rows).encode()

        content = altered(written(), change)
        with pytest.raises(InputError):
            read_archive(io.BytesIO(content))
        assert Craft.objects.count() == 1

    def test_what_unpacks_to_far_more_than_it_holds_is_rejected(self, small: Craft) -> None:
        content = altered(written(small), lambda name, member: (name, member + b" " * 30_000_000 if "flight" in name else member))
        with pytest.raises(InputError, match="would unpack to far more"):
            read_archive(io.BytesIO(content))


class TestPages:
    def test_given_out_and_taken_in_by_hand(self, client: Client, small: Craft) -> None:
        page = client.post("/archive/export/", {"craft": str(small.pk), "with_places": "on"}, follow=True).content.decode()
        (export,) = exports.exports()
        assert export.name in client.get("/archive/").content.decode()
        answer = client.get(f"/archive/exports/{export.name}/")
        assert "nembrit-pebble-" in answer["Content-Disposition"]
        content = b"".join(answer)
        page = client.post("/archive/take/", {"file": SimpleUploadedFile("a.zip", content)}, follow=True).content.decode()
        assert "Pebble (2) imported with 1 flight. Pebble exists already" in page

    @pytest.mark.django_db(transaction=True)
    def test_an_export_leaves_the_others_writing(self, small: Craft) -> None:
        """While the rows are read another connection writes, and what it writes is not in the file."""
        with snapshot():
            assert Craft.objects.count() == 1
            with closing(sqlite3.connect(connection.settings_dict["NAME"], timeout=0.5)) as other:
                other.execute("BEGIN IMMEDIATE")
                other.rollback()

    @pytest.mark.parametrize("name", ["../x.zip", "workshop.sqlite3", "nembrit-x-20260101-000000.zip"])
    def test_only_exports_are_sent(self, client: Client, craft: Craft, name: str) -> None:
        assert client.get(f"/archive/exports/{name}/").status_code in (400, 404)

    @pytest.mark.parametrize("state", [Job.State.CANCELLED, Job.State.FAILED])
    def test_an_import_that_was_given_up_blocks_no_archive(self, small: Craft, client: Client, state: str) -> None:
        log = Log.objects.create(craft=small, file_name="x.csv")
        Upload.objects.create(log=log, content=b"")
        Job.objects.create(kind="import_log", subject_id=log.pk, label="x", state=state)
        client.post("/archive/export/", {"craft": str(small.pk)})
        assert len(exports.exports()) == 1

    @pytest.mark.parametrize(("content", "told"), [(b"PK nothing", "Nothing was imported"), (b"", "submitted file is empty")])
    def test_other_files_are_refused_in_words(self, client: Client, craft: Craft, content: bytes, told: str) -> None:
        page = client.post("/archive/take/", {"file": SimpleUploadedFile("a.zip", content)}, follow=True).content.decode()
        assert told in page
        assert Craft.objects.count() == 1

    def test_no_archive_tells_a_blind_trial(self, client: Client, craft: Craft, act) -> None:
        first = craft.configurations.get()
        second = tunes.add_configuration(
            craft, tunes.apply_changes(tunes.core_settings(first), {"d on roll": "24"}), source="pasted"
        )  # fmt: skip
        wanted = experiments.Wanted(
            question="Which?", card_key="response", metric="rating", direction="higher", design="blocks", repetitions=4,
            is_blind=True, configurations=(first, second),
        )  # fmt: skip
        experiments.begin(craft, wanted)
        assert "an archive would reveal" in act("/archive/export/", craft=str(craft.pk))
        assert "an archive would reveal" in act("/archive/export/", craft="")

    def test_a_log_that_is_still_read_is_waited_for(self, craft: Craft, act) -> None:
        log = Log.objects.create(craft=craft, file_name="x.csv")
        Upload.objects.create(log=log, content=b"")
        Job.objects.create(kind="import_log", subject_id=log.pk, label="x", state=Job.State.RUNNING)
        assert "1 log is still being read" in act("/archive/export/", craft=str(craft.pk))
