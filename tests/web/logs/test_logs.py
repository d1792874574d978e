"""The log desk through its pages: inbox, meanings, window, manoeuvres, splitting, alignment, giving out, backup."""

import contextlib
import gzip
import io
import json
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client

from nembrit.core.errors import LogReadError
from nembrit.core.formats.registry import read_log
from nembrit.web.bench.results import metrics_by_flight
from nembrit.web.common import backup, restore
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import create_craft
from nembrit.web.logs.models import Channel, Log, Manoeuvre
from tests.dialects import DIALECTS
from tests.flying import flown, log_file

pytestmark = pytest.mark.django_db


def slow_table(flight, late_s: float = 1.25) -> bytes:
    """What a second recorder wrote: sticks at 50 Hz, in its own clock."""
    own_s = np.arange(28 * 50) / 50
    rows = ["ms,throttle,roll stick,pitch stick,yaw stick"]
    columns = [
        np.interp(own_s + late_s, flight.t_s, flight.channels[role])
        for role in ("throttle", "stick.roll", "stick.pitch", "stick.yaw")
    ]
    rows += [f"{1000 * t:.0f}," + ",".join(f"{column[k]:.3f}" for column in columns) for k, t in enumerate(own_s)]
    return "\n".join(rows).encode()


class TestInbox:
    def test_a_log_goes_from_the_inbox_to_a_new_flight(self, client: Client, craft: Craft, bring, act) -> None:
        bring(("dusk.csv", DIALECTS["german"](flown(5)).content), modified="1790000000000")
        log = Log.objects.get()
        assert (log.state, log.craft, Flight.objects.count()) == ("ready", None, 0)
        page = client.get("/inbox/").content.decode()
        assert "6 motors, as Pebble has" in page
        assert "30 s at 2000 Hz" in page
        assert "belongs to flight 1 of Pebble now" in act(f"/logs/{log.pk}/move/", to=f"craft-{craft.pk}")
        flight = craft.flights.get()
        assert flight.flown_at.year == 2026
        assert "overshoot" in client.get(f"{flight.get_absolute_url()}").content.decode()
        assert "The inbox is empty" in client.get("/inbox/").content.decode()

    def test_what_was_refused_is_told_again_when_the_page_comes_anew(self, client: Client, craft: Craft, bring) -> None:
        picture = ("picture.csv", b"\x89PNG\r\n\x1a\n" + bytes(200))
        assert "This is a PNG picture" in bring(("box.csv", slow_table(flown(5))), picture)
        told = "picture.csv was rejected. This is a PNG picture"
        for state in (Job.State.WAITING, Job.State.RUNNING, Job.State.RUNNING, Job.State.DONE):
            Job.objects.update(state=state)  # each end of a job loads the page anew
            assert told in client.get("/inbox/").content.decode()
        assert "That was rejected" not in client.get("/inbox/").content.decode()

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_a_second_recorder_is_matched_by_content_and_lined_up(self, client: Client, craft: Craft, bring, act, attach) -> None:
        flight = attach(log_file(5), "main.csv")
        bring(("box.csv", slow_table(flown(5))))
        log = Log.objects.get(file_name="box.csv")
        assert log.request["suggestion"]["flight_id"] == flight.pk
        assert "the same stick movements" in client.get("/inbox/").content.decode()
        act(f"/logs/{log.pk}/move/", to=f"flight-{flight.pk}")
        segment = log.segments.get()
        assert segment.offset_s == pytest.approx(1.25, abs=5e-4)
        page = client.get(f"/logs/{log.pk}/").content.decode()
        assert "Aligned with main.csv" in page
        assert "An offset is less than" in act(f"/segments/{segment.pk}/alignment/", offset_s="1e9", skew_ppm="0")
        act(f"/segments/{segment.pk}/alignment/", offset_s="1.5", skew_ppm="12")
        segment.refresh_from_db()
        assert (segment.offset_s, segment.skew_ppm, segment.alignment) == (1.5, 12.0, {"reason": "set by hand"})
        act(f"/segments/{segment.pk}/alignment/", find="1")
        segment.refresh_from_db()
        assert segment.offset_s == pytest.approx(1.25, abs=5e-4)
        # the flight is still analysed by the log with the gyro
        assert "box.csv: throttle" in client.get(f"{flight.get_absolute_url()}traces/").content.decode()
        assert client.get(f"{flight.get_absolute_url()}").content.decode().count("main.csv") >= 1

    def test_archives_are_opened_and_the_same_content_is_known(self, client: Client, craft: Craft, bring) -> None:
        content = DIALECTS["terse"](flown(5)).content
        bring(("a.csv.gz", gzip.compress(content)))
        assert Log.objects.get().file_name == "a.csv"
        assert "exists already" in bring(("b.csv", content))
        assert "broken" in bring(("c.csv.gz", b"\x1f\x8b\x08nonsense"))
        assert Log.objects.count() == 1

    def test_archiving_loses_nothing(self, client: Client, craft: Craft, bring, act) -> None:
        bring(("a.csv", DIALECTS["french"](flown(5)).content))
        log = Log.objects.get()
        assert "archived; nothing is lost" in act(f"/logs/{log.pk}/archive/", archived="1")
        assert "The inbox is empty" in client.get("/inbox/").content.decode()
        assert "is back" in act(f"/logs/{log.pk}/archive/", archived="0")
        assert "Choose a flight or a craft" in act(f"/logs/{log.pk}/move/", to="nowhere-1")

    def test_a_track_alone_waits_in_the_inbox_even_when_attached_to_a_craft(
        self, client: Client, craft: Craft, bring, attach
    ) -> None:
        walk = (Path(__file__).parents[2] / "data" / "walk_track" / "walk.gpx").read_bytes()
        bring(("walk.gpx", walk), path=f"/craft/{craft.pk}/logs/attach/", card_key="")
        log = Log.objects.get()
        assert (log.state, log.segments.count(), str(log.recorded_at)[:10]) == ("ready", 0, "2010-08-05")
        assert "waits <a" in client.get(f"/craft/{craft.pk}/").content.decode()


class TestWindowAndManoeuvres:
    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_the_window_is_set_refused_and_found_again(self, client: Client, attach, act) -> None:
        segment = attach().segments.get()
        found_s = (segment.start_s, segment.end_s)
        path = f"/segments/{segment.pk}/window/"
        assert "use 5.00 to 20.00 s" in act(path, start_s="5", end_s="20")
        evidence = client.get(f"{segment.flight.get_absolute_url()}").content.decode()
        assert "5.00 to 20.0 s" in evidence
        for start_s, end_s, said in (("9", "9.1", "at least 0.5 s"), ("a", "3", "should be a number")):
            assert said in act(path, start_s=start_s, end_s=end_s)
        act(path, as_found="1")
        segment.refresh_from_db()
        assert (segment.start_s, segment.end_s) == pytest.approx(found_s)

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_manoeuvres_are_changed_added_and_taken_out_and_metrics_follow(self, client: Client, attach, act) -> None:
        flight = attach()
        log = flight.segments.get().log
        path = f"/logs/{log.pk}/manoeuvre/"
        stops = log.manoeuvres.filter(kind="snap_stop", axis="roll")
        assert stops.count() == 2
        for stop in stops:
            assert "removed" in act(path, row=stop.pk, remove="1")
        metrics = metrics_by_flight([flight])[flight.pk]
        assert "bounce_back.roll" not in metrics
        assert "bounce_back.pitch" in metrics
        act(path, search="1")  # searching anew does not bring back what was taken out
        assert not log.manoeuvres.filter(kind="snap_stop", axis="roll", is_removed=False).exists()
        assert "The manoeuvre is saved" in act(path, kind="hover", axis="", start_s="3", end_s="4.5")
        row = Manoeuvre.objects.get(kind="hover", is_edited=True)
        assert "is changed" in act(path, row=row.pk, kind="hover", axis="", start_s="3.5", end_s="4.5")
        for data, said in (
            ({"kind": "hover", "start_s": "5", "end_s": "4"}, "its start before its end"),
            ({"kind": "somersault", "start_s": "1", "end_s": "4"}, "no kind of manoeuvre"),
            ({"kind": "doublet", "start_s": "1", "end_s": "4"}, "needs its axis"),
            ({"kind": "hover", "axis": "left", "start_s": "1", "end_s": "4"}, "is no axis"),
        ):
            assert said in act(path, **data)

    def test_one_log_of_two_flights_is_split(self, client: Client, craft: Craft, attach, act) -> None:
        flight = flown(5)
        throttle = np.concatenate((flight.channels["throttle"], np.zeros(12_000), flight.channels["throttle"]))[::8]
        gyro = np.concatenate((flight.channels["gyro.roll"], np.zeros(12_000), flight.channels["gyro.roll"]))[::8]
        rows = "".join(f"{k / 250:.3f},{g:.2f},{t:.3f}\n" for k, (g, t) in enumerate(zip(gyro, throttle, strict=True)))
        first = attach(f"time [s],gyro.roll [deg/s],throttle [1]\n{rows}".encode())
        log = first.segments.get().log
        page = client.get(f"/logs/{log.pk}/").content.decode()
        assert "2 flights in one log" in page
        stretches = [part.split('"')[0] for part in page.split('name="stretch" value="')[1:]]
        assert "nothing to split" in act(f"/logs/{log.pk}/split/", stretch=stretches[:1])
        assert "two parts overlap" in act(f"/logs/{log.pk}/split/", stretch=["1:20", "10:30"])
        act(f"/logs/{log.pk}/split/", stretch=stretches)
        assert craft.flights.count() == 2
        second = craft.flights.first()
        assert second.segments.get().start_s > first.segments.get().end_s
        assert (second.flown_at - first.flown_at).total_seconds() == pytest.approx(36, abs=1)

    @pytest.mark.long("flies two cards; the sums are asked in core")
    def test_two_flights_of_a_card_are_laid_over_each_other(self, client: Client, craft: Craft, attach) -> None:
        one, two = attach(log_file(5)), attach(log_file(6))
        page = client.get(f"{one.get_absolute_url()}aligned/?with={two.number}").content.decode()
        assert "manoeuvres aligned" in page
        pictures = [json.loads(part.split("</script>")[0]) for part in page.split('type="application/json">')[1:]]
        assert len(pictures) >= 8
        snap = next(one for one in pictures if one["title"].startswith("snap stop roll"))
        assert [line["look"] for line in snap["lines"]] == ["setpoint", "filtered", "before_setpoint", "before"]
        asked, there = (np.array(snap["lines"][k]["y"]) for k in (0, 2))
        assert np.corrcoef(asked, there)[0, 1] > 0.9  # laid over each other by what was asked
        three = attach(log_file(1), card_key="noise_ramp")
        assert f"Flights {one.number} and {two.number}" in client.get(f"{one.get_absolute_url()}aligned/").content.decode(), (
            "of its own card"
        )
        three.segments.all().delete()
        two.segments.all().delete()
        assert "has no other flight" in client.get(f"{one.get_absolute_url()}aligned/").content.decode()


class TestGivingOut:
    def test_channels_of_a_span_read_back_identically(self, client: Client, attach) -> None:
        log = attach().segments.get().log
        wanted = Channel.objects.filter(stream__log=log, role__in=("gyro.roll", "throttle"))
        query = {"from": "3", "to": "4", "channel": [channel.pk for channel in wanted], "stream": log.streams.get().pk}
        flight = flown(5, 1.0)
        for form in ("csv", "parquet", "jsonl"):
            answer = client.get(f"/logs/{log.pk}/export/", query | {"form": form})
            assert f'filename="flight.{form}"' in answer["Content-Disposition"]
            back = read_log(answer.content).main
            np.testing.assert_array_equal(back.t_s, flight.t_s[6000:8001], form)
            for role in ("gyro.roll", "throttle"):
                np.testing.assert_array_equal(back.find(role).values(), flight.channels[role][6000:8001], form)

    def test_positions_are_left_out_unless_wanted(self, client: Client, craft: Craft, bring) -> None:
        walk = (Path(__file__).parents[2] / "data" / "walk_track" / "walk.gpx").read_bytes()
        bring(("walk.gpx", walk))
        log = Log.objects.get()
        stream = log.streams.get()
        query = {
            "from": "0",
            "to": "1e6",
            "stream": stream.pk,
            "channel": [channel.pk for channel in stream.channels.exclude(position=0)],
        }
        csv = client.get(f"/logs/{log.pk}/export/", {**query, "form": "csv"}).content.decode()
        assert "latitude" not in csv.splitlines()[0]
        assert "latitude" in client.get(f"/logs/{log.pk}/export/", {**query, "form": "csv", "places": "1"}).content.decode()
        assert b"a track is made of positions" in client.get(f"/logs/{log.pk}/export/", {**query, "form": "gpx"}).content
        gpx = client.get(f"/logs/{log.pk}/export/", {**query, "form": "gpx", "places": "1"}).content
        np.testing.assert_allclose(
            read_log(gpx).main.find("latitude").values(), read_log(walk).main.find("latitude").values(), atol=5e-8
        )
        line = json.loads(client.get(f"/logs/{log.pk}/export/", {**query, "form": "geojson", "places": "1"}).content)
        assert len(line["geometry"]["coordinates"]) == 296

    def test_what_cannot_be_given_out_says_why(self, client: Client, attach) -> None:
        log = attach().segments.get().log
        for query, said in (
            ({"form": "pdf", "from": "1", "to": "2"}, "is not an export format"),
            ({"form": "csv", "from": "2", "to": "1"}, "from before to"),
            ({"form": "csv", "from": "x", "to": "1"}, "should be a number"),
            ({"form": "csv", "from": "1", "to": "2"}, "choose at least one channel"),
            ({"form": "gpx", "from": "1", "to": "2", "places": "1"}, "holds no positions"),
        ):
            answer = client.get(f"/logs/{log.pk}/export/", query)
            assert answer.status_code == 400, query
            assert said in answer.content.decode(), query


class TestTraceData:
    def test_spectrum_measures_and_track_answer_with_data_or_a_sentence(self, client: Client, attach) -> None:
        flight = attach()
        channel = Channel.objects.get(stream__log__segments__flight=flight, role="gyro.roll")
        base = flight.get_absolute_url()
        chart = client.get(f"{base}spectrum/", {"channel": channel.pk, "from": "3", "to": "9"}).json()
        assert chart["x"]["high"] == 1000.0
        (row,) = client.get(f"{base}measures/", {"channels": channel.pk, "from": "3", "to": "4"}).json()["rows"]
        values = flown(5, 1.0).channels["gyro.roll"][6000:8001]
        assert (row["rms"], row["peak_to_peak"], row["n_samples"]) == (
            pytest.approx(values.std()),
            pytest.approx(np.ptp(values)),
            2001,
        )
        for path, query, said in (
            ("spectrum", {"from": "3", "to": "3.001", "channel": channel.pk}, "needs at least"),
            ("spectrum", {"from": "3", "to": "4"}, "choose a channel"),
            ("measures", {"from": "4", "to": "3"}, "from before to"),
            ("trace", {"from": "3", "to": "4", "channels": "99999"}, "there is no channel 99999"),
            ("track", {}, "no log of this flight holds positions"),
        ):
            answer = client.get(f"{base}{path}/", query)
            assert answer.status_code == 400
            assert said in answer.content.decode()


@pytest.mark.django_db(transaction=True)
class TestBackup:
    def test_a_copy_brings_back_what_was_lost_since(self, client: Client, tmp_path: Path) -> None:
        craft = create_craft(layout="quad", name="Wren", kind="multirotor")
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        craft.delete()
        Job.objects.create(kind="evidence", subject_id=1, label="later", state="running")
        kept = restore.restore_backup(copy)
        assert Craft.objects.get().name == "Wren"
        assert not Job.objects.exists()
        assert kept.name in {found.name for found in backup.backups()}
        restore.restore_backup(kept)  # and forward again
        assert not Craft.objects.exists()
        with pytest.raises(backup.BackupError, match="is there already"):
            backup.make_backup(copy)

    def test_a_copy_comes_to_its_end_while_others_write(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.setattr(backup, "_PAGES_AT_ONCE", 8)
        source = tmp_path / "busy.sqlite3"
        with contextlib.closing(sqlite3.connect(source)) as busy:
            busy.execute("PRAGMA journal_mode=WAL")
            busy.execute("CREATE TABLE notes (text)")
            busy.executemany("INSERT INTO notes VALUES (?)", [("x" * 4000,)] * 200)
            busy.commit()
            steps = []

            def write(share: float) -> None:
                """Another program's write between any two steps of the copy."""
                steps.append(share)
                assert len(steps) < 500, "the copy begins anew for ever"
                busy.execute("INSERT INTO notes VALUES ('later')")
                busy.commit()

            backup.copy_database(source, tmp_path / "copy.sqlite3", write)
        with contextlib.closing(sqlite3.connect(tmp_path / "copy.sqlite3")) as copied:
            assert copied.execute("SELECT COUNT(*) FROM notes").fetchone() == (200,)

    def test_a_damaged_copy_and_one_of_a_newer_version_are_refused(self, tmp_path: Path) -> None:
        create_craft(layout="quad", name="Wren", kind="multirotor")
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        with contextlib.closing(sqlite3.connect(copy)) as database, database:
            database.execute("INSERT INTO django_migrations (app, name, applied) VALUES ('logs', '9999_future', '2030-01-01')")
        with pytest.raises(backup.BackupError, match="made by a newer Nembrit"):
            restore.restore_backup(copy)
        content = bytearray(copy.read_bytes())
        content[8192:40_000] = b"\xa5" * (40_000 - 8192)
        copy.write_bytes(bytes(content))
        with pytest.raises(backup.BackupError, match=r"damaged|no whole backup"):
            restore.restore_backup(copy)
        assert Craft.objects.get().name == "Wren"

    @pytest.mark.parametrize(
        ("change", "told"),
        [
            ("CREATE TRIGGER t AFTER INSERT ON hangar_craft BEGIN DELETE FROM hangar_craft; END", None),
            ("CREATE VIEW hangar_view AS SELECT 1", None),
            ("CREATE TABLE guests (x)", None),
            ("ALTER TABLE logs_pyramid RENAME TO logs_pyramids", "lacks the table logs_pyramid"),
            ("ALTER TABLE hangar_craft DROP COLUMN cells", "differs in the column cells"),
            ("ALTER TABLE hangar_craft ADD COLUMN odd", "differs in the column odd"),
        ],
    )
    def test_of_a_crafted_copy_only_rows_are_taken(self, tmp_path: Path, change: str, told: str | None) -> None:
        create_craft(layout="quad", name="Wren", kind="multirotor")
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        Craft.objects.update(name="Later")
        with contextlib.closing(sqlite3.connect(copy)) as database, database:
            database.execute(change)
        if told:
            with pytest.raises(backup.BackupError, match=told):
                restore.restore_backup(copy)
            assert Craft.objects.get().name == "Later"
            return
        restore.restore_backup(copy)
        assert Craft.objects.get().name == "Wren"
        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM sqlite_master WHERE type IN ('trigger', 'view') OR name = 'guests'")
            assert cursor.fetchone() == (0,)

    def test_the_page_makes_fetches_restores_and_removes_copies(self, client: Client) -> None:
        client.post("/backup/")
        (made,) = [found for found in backup.backups() if "restore" not in found.name][:1]
        answer = client.get(f"/backup/{made.name}/")
        assert b"".join(answer).startswith(b"SQLite format 3")
        with made.path.open("rb") as file:
            restored = client.post("/backup/restore/", {"file": file, "sure": "1"})
        assert restored.status_code == 302
        assert "Workshop restored" in client.get(restored["Location"]).content.decode()
        client.post(f"/backup/{made.name}/remove/")
        assert made.name not in {found.name for found in backup.backups()}

    def test_a_copy_is_checked_and_wrong_ones_are_refused(self, client: Client, tmp_path: Path) -> None:
        wrong = tmp_path / "wrong.sqlite3"
        wrong.write_bytes(b"no database")
        with pytest.raises(backup.BackupError, match="it is not a database"):
            restore.restore_backup(wrong)
        wrong.write_bytes(b"SQLite format 3\0" + b"\0" * 5000)
        with pytest.raises(backup.BackupError, match="no whole backup"):
            restore.restore_backup(wrong)
        answer = client.post("/backup/restore/", {"name": "none.sqlite3", "sure": "1"})
        assert "there is no backup" in answer.content.decode().lower()
        both = {"name": "none.sqlite3", "file": io.BytesIO(b"x"), "sure": "1"}
        assert "not both; nothing was changed" in client.post("/backup/restore/", both).content.decode()
        assert "replace the present workshop” first" in client.post("/backup/restore/", {}).content.decode().lower()
        assert client.get("/backup/").status_code == 200


def test_an_interrupted_reading_keeps_the_file_and_is_tried_again(
    craft: Craft, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    with monkeypatch.context() as broken:
        broken.setattr(
            "nembrit.web.intake.services.read_raw", lambda *args, **kwargs: (_ for _ in ()).throw(LogReadError("row 7: cut off"))
        )
        broken.setattr("nembrit.web.intake.services.check_head", lambda head: None)
        client.post("/inbox/", {"files": [SimpleUploadedFile("x.csv", log_file(5))]})
    log = Log.objects.get()
    job = Job.objects.get(kind="import_log")
    assert (log.state, job.state, log.error) == ("refused", "failed", "row 7: cut off")
    client.post(f"/jobs/{job.pk}/retry/")
    log.refresh_from_db()
    assert log.state == "ready"
