"""Slips and their flights, jobs that are interrupted, samples in and out of the database, traces."""

import json
from dataclasses import replace

import numpy as np
import pytest
from django.test import Client
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from nembrit.core.analysis.likeness import Likeness
from nembrit.core.analysis.run import ANALYSES
from nembrit.core.errors import InputError
from nembrit.core.formats.registry import read_log
from nembrit.web.bench.models import StoredResult
from nembrit.web.bench.results import evidence_of, missing_analyses, store, stored_results
from nembrit.web.common import jobs
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs import storage, traces
from nembrit.web.logs.models import Channel, Log, Segment
from nembrit.web.logs.packing import extremes_of, pack, unpack
from nembrit.web.tunes import history, trials
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Slip
from tests.flying import flown, log_file

_ARRAYS = st.sampled_from(["int16", "int32", "int64", "float32", "float64"]).flatmap(
    lambda name: hnp.arrays(name, st.integers(1, 200))
)


@settings(max_examples=80)
@given(_ARRAYS)
def test_packed_samples_come_back_bit_for_bit(samples: np.ndarray) -> None:
    found = unpack(pack(samples), dtype=samples.dtype.name, n_samples=samples.size)
    assert found.tobytes() == samples.tobytes()


def test_a_pyramid_holds_lowest_and_highest_with_gaps_passed_over() -> None:
    values = np.arange(200.0)
    values[70] = np.nan
    assert extremes_of(values).tolist() == [[0, 63], [64, 127], [128, 191], [192, 199]]


@pytest.mark.django_db
def test_a_stored_log_gives_back_every_sample(attach) -> None:
    flight = attach()
    log = flight.segments.get().log
    recording = storage.load_recording(log)
    for channel in read_log(log_file(5, 1.0)).main.channels:
        np.testing.assert_array_equal(recording.channels[channel.role], channel.values())


@pytest.mark.django_db
def test_traces_are_the_envelope_of_the_samples(attach) -> None:
    flight = attach()
    values = flown(5, 1.0).channels["gyro.roll"]
    for start_s, end_s, columns in ((0.0, 30.0, 500), (3.0, 4.0, 900), (10.0, 10.05, 400), (29.0, 99.0, 300)):
        t_s, low, high = _trace(flight, start_s, end_s, columns)
        inside = values[round(start_s * 2000) : round(min(end_s, 30) * 2000)]
        assert t_s.size <= columns + 2
        assert np.nanmin(low) <= inside.min() + 1e-3
        assert np.nanmax(high) >= inside.max() - 1e-3
        assert (np.diff(t_s) > 0).all()
    with pytest.raises(InputError, match="no channel 99999 here"):
        traces.channels_of([flight.segments.get().log_id], [99999])


def _trace(flight: Flight, start_s: float, end_s: float, columns: int) -> np.ndarray:
    """Times, lows and highs of gyro.roll, as the browser would decode them."""
    channel = Channel.objects.select_related("stream").get(stream__log__segments__flight=flight, role="gyro.roll")
    content = traces.trace_bytes([channel], traces.clocks_of(flight), start_s=start_s, end_s=end_s, n_columns=columns)
    length = int.from_bytes(content[:4], "little")
    (stream,) = json.loads(content[4 : 4 + length])["streams"]
    assert stream["channels"] == [channel.pk]
    return np.frombuffer(content[4 + length :], "<f4").reshape(3, stream["n"])


@pytest.mark.django_db
def test_a_gap_is_a_hole_in_the_trace(attach) -> None:
    rows = "".join(f"{k / 1000:.3f},{k}\n" for k in [*range(300), *range(700, 1000)])
    flight = attach(f"time [s],gyro.roll [deg/s]\n{rows}".encode())
    assert np.isnan(_trace(flight, 0.0, 1.0, 2000)[1]).sum() == 1


def _copy(craft: Craft, segment: Segment, **fields: object) -> None:
    """A further flight with the evidence of an analysed one, slightly scattered."""
    flight = create_flight(craft, card_key="response", **fields)
    copy = Segment.objects.create(log=segment.log, flight=flight, start_s=segment.start_s, end_s=segment.end_s)
    found = stored_results([segment.flight], *ANALYSES)[segment.flight_id]
    scattered = {name: value * (1 + 0.02 * (flight.number % 5)) for name, value in found.metrics.values.items()}
    own = {"metrics": replace(found.metrics, values=scattered), "likeness": Likeness(mark=())}  # it shook in its own way
    for key in ANALYSES:
        store(copy, key, own.get(key, getattr(found, key)))


@pytest.mark.django_db
def test_the_loop_closes_on_a_repair(craft: Craft, attach, client: Client, slip_text: tunes.SlipText) -> None:
    loose = attach(log_file(5, 1.0)).segments.get()
    for _ in range(3):
        _copy(craft, loose)
    tune = tunes.tune_of(craft)
    slip = tunes.make_slip(tune, group="hardware", text=slip_text, values={}, part="Tray with new foam")
    assert slip.result_build.simulated_faults == {}  # the simulator's craft is cured
    sound = attach(log_file(6, 0.0)).segments.get()
    for _ in range(3):
        _copy(craft, sound)
    trial = trials.trial_of(slip)
    assert [(row.is_after, row.counts) for row in trial.judged] == [(False, True)] * 4 + [(True, True)] * 4
    assert trial.verdict.primary.verdict == "better"
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "<h1>Better" in page
    assert page.count("<circle") == 8
    chart = client.get(f"/slips/{slip.pk}/charts/noise/roll.json").json()
    assert [line["label"] for line in chart["lines"]] == ["before (4)", "after (4)"]
    out = trial.judged[0].flight
    answer = f"/slips/{slip.pk}/flights/{out.pk}/"
    assert "give a reason" in client.post(answer, {"use": "out"}, follow=True).content.decode()
    assert trials.trial_of(slip).verdict.primary.verdict == "better"
    client.post(answer, {"use": "out", "why": "gusty"})
    assert trials.trial_of(slip).verdict.word == "not_yet"
    client.post(answer, {"use": ""})
    decision = tunes.decide(slip, "keep")
    record = trials.record_from(decision.trial)
    assert (record.verdict.sentence, len(record.standing)) == (trial.verdict.sentence, 8)
    client.post(answer, {"use": "out", "why": "later"})  # decided: nothing moves any more
    _copy(craft, sound)
    page = client.get(slip.get_absolute_url()).content.decode()
    assert page.count("<circle") == 8
    assert "was worked out" not in page
    assert "motor roughness −" in history.outcome_line(decision)
    assert {station.key: station.state for station in history.track(tunes.tune_of(craft))}["mechanics"] == "open"


@pytest.mark.django_db
def test_one_slip_at_a_time_and_one_group_a_slip(craft: Craft, slip_text: tunes.SlipText) -> None:
    tune = tunes.tune_of(craft)
    with pytest.raises(InputError, match="does not belong to the group P with D, roll"):
        tunes.make_slip(tune, group="pd.roll", text=slip_text, values={"p on pitch": "60"})
    with pytest.raises(InputError, match="one at a time"):
        tunes.make_slip(tune, group="other", text=slip_text, values={"beeper": "off", "lamp": "red"})
    slip = tunes.make_slip(tune, group="pd.roll", text=slip_text, values={"d on roll": "30"})
    with pytest.raises(InputError, match="slip 1 is still open"):
        tunes.make_slip(tune, group="i", text=slip_text, values={"i on roll": "50"})
    tunes.decide(slip, "undo")
    assert Slip.objects.get().state == "undone"
    assert tunes.make_slip(tune, group="i", text=slip_text, values={"i on roll": "50"}).number == 2


@pytest.mark.django_db
def test_a_repair_that_is_undone_brings_the_fault_back(craft: Craft, slip_text: tunes.SlipText) -> None:
    slip = tunes.make_slip(tunes.tune_of(craft), group="hardware", text=slip_text, values={}, part="Foam pads")
    tunes.decide(slip, "undo")
    assert craft.build_entries.last().simulated_faults == {"loose_mount": 1.0}


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
@pytest.mark.django_db
def test_a_new_version_is_computed_anew_and_said(attach) -> None:
    flight = attach()
    made_at = dict(StoredResult.objects.values_list("analysis", "made_at"))
    StoredResult.objects.filter(analysis="motors").update(version=0)
    assert missing_analyses(flight.segments.get()) == ["motors"]
    assert evidence_of(flight, "noise").results is not None, "the other numbers are still valid"
    found = evidence_of(flight, "motors", "noise")
    assert found.results is not None or found.is_renewed
    assert evidence_of(flight, "motors").results is not None
    anew = dict(StoredResult.objects.values_list("analysis", "made_at"))
    assert {key for key in anew if anew[key] != made_at[key]} <= {"motors"}
    assert not missing_analyses(flight.segments.get())


@pytest.mark.django_db
class TestJobs:
    def make(self, state: str = Job.State.WAITING, attempts: int = 0) -> Job:
        return Job.objects.create(kind="import_log", subject_id=1, label="Reading", state=state, attempts=attempts)

    def test_an_interrupted_job_is_tried_once_more_then_given_up(self, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.setitem(jobs._handlers, "import_log", lambda subject, progress: None)
        job, hopeless = self.make(Job.State.RUNNING, 1), self.make(Job.State.RUNNING, 2)
        jobs.recover_interrupted()
        job.refresh_from_db()
        hopeless.refresh_from_db()
        assert (job.state, job.attempts) == ("done", 2)
        assert hopeless.state == "failed"
        assert "Try again" in hopeless.error

    def test_a_mistake_of_ours_is_a_sentence_not_a_trace(self, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.setitem(jobs._handlers, "import_log", lambda subject, progress: 1 / 0)
        job = jobs.start_job("import_log", 1, label="x")
        assert job.state == "failed"
        assert "ZeroDivision" not in job.error

    def test_cancelling_stops_at_the_next_report(self, monkeypatch: pytest.MonkeyPatch, client: Client) -> None:
        job = self.make()

        def work(subject: int, progress) -> None:
            jobs.cancel_job(Job.objects.get(pk=job.pk))
            progress("next chunk", 0.5)

        monkeypatch.setitem(jobs._handlers, "import_log", work)
        jobs.run_job.call(job.pk)
        job.refresh_from_db()
        assert job.state == "cancelled"
        assert "Cancelled. Nothing was changed" in client.get(f"/jobs/{job.pk}/").content.decode()

    def test_a_waiting_job_is_cancelled_at_once_and_a_second_start_finds_the_first(self, client: Client) -> None:
        job = self.make()
        assert jobs.start_job("import_log", 1, label="again") == job
        client.post(f"/jobs/{job.pk}/cancel/")
        job.refresh_from_db()
        assert job.state == "cancelled"

    def test_the_panel_asks_again_only_while_there_is_work(self, client: Client) -> None:
        waiting, done = self.make(), self.make(Job.State.DONE)
        assert "every 500ms" in client.get(f"/jobs/{waiting.pk}/").content.decode()
        answer = client.get(f"/jobs/{done.pk}/", headers={"HX-Request": "true"})
        assert "every 500ms" not in answer.content.decode()
        assert answer["HX-Trigger-After-Swap"] == "nembrit:job-done"

    def test_trying_a_failed_import_again_needs_no_file(
        self, craft: Craft, client: Client, monkeypatch: pytest.MonkeyPatch, attach
    ) -> None:
        with monkeypatch.context() as broken:
            broken.setattr("nembrit.web.intake.services.store_draft", lambda *args, **kwargs: 1 / 0)
            client.post(f"/craft/{craft.pk}/logs/attach/", {"files": [_upload()]})
        job = Job.objects.get(kind="import_log")
        assert (job.state, craft.flights.count()) == ("failed", 0)
        client.post(f"/jobs/{job.pk}/retry/")
        assert craft.flights.count() == 1
        assert Log.objects.get().state == "ready"


def _upload():
    from django.core.files.uploadedfile import SimpleUploadedFile

    return SimpleUploadedFile("flight.csv", log_file(6, 0.0))
