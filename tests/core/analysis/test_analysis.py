"""One call analyses a flight: what is missing is said, never guessed; documents hold plain JSON."""

import json
import math
from dataclasses import fields, replace

import numpy as np
import pytest

from nembrit.core.analysis.flight import ROLES, CraftFacts, Flight
from nembrit.core.analysis.run import ANALYSES, FlightResults, analyse, wanted_analyses
from nembrit.core.noise.motors import MotorShares
from nembrit.core.records.log import FlightLog, QualityNote, Recording, Stream, channel
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.report.documents import log_document, report_document, rounded
from nembrit.core.response.step import UncertainStep
from nembrit.core.trials.metrics import METRICS, metric_kind, metric_names
from nembrit.core.types import AXES
from tests.flying import HEX, flown, recording

CRAFT = CraftFacts(mixer=HEX.mixer())


def of(part: Recording, **options: object) -> FlightResults:
    return analyse(Flight(part, craft=CRAFT), **options)


def reasons_of(found: FlightResults) -> dict[str, str]:
    """Why parts are missing, as notes of the report tell it."""
    document = report_document(found, {}, spans=(), window_start_s=0.0)
    return dict(note.split(": ", 1) for note in document["notes"] if ": " in note)


@pytest.fixture(scope="module")
def whole() -> FlightResults:
    return of(recording(flown(5, 1.0)))


def without(*prefixes: str, start_s: float = 2.5, end_s: float = 28.0) -> FlightResults:
    part = recording(flown(5, 1.0), start_s, end_s)
    kept = {role: values for role, values in part.channels.items() if not role.startswith(prefixes)}
    return of(Recording.of(kept, sample_rate_hz=2000.0, start_s=start_s))


def test_a_mount_that_shakes_the_motors_is_said() -> None:
    # it shakes them so much that the mixer moves their common level
    assert "large throttle commands most of the time" in reasons_of(of(recording(flown(5, 1.15))))["response.yaw"]


def test_a_whole_log_answers_everything(whole: FlightResults) -> None:
    told = reasons_of(whole)
    assert told.pop("finding.idle_low")  # the card has no float
    assert not told
    assert all(noise.raw and noise.filtered for noise in whole.noise.axes.values())
    assert set(whole.response.steps) == set(AXES)
    assert set(whole.metrics.values) == set(metric_names("multirotor"))
    assert [finding.code for finding in whole.judgement.findings] == ["loose_mount"]


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "0.1-0.2",
        "0.7-0.16",
    ),
)
@pytest.mark.parametrize(("overshoot", "error", "least"), [(0.7, 0.16, 0.54), (0.1, 0.2, 0.0)])
def test_a_response_that_cannot_be_shown_still_speaks_for_or_against_p(
    monkeypatch: pytest.MonkeyPatch, overshoot: float, error: float, least: float
) -> None:
    def refused(*args: object, **options: object) -> None:
        raise UncertainStep(overshoot, error)

    monkeypatch.setattr("nembrit.core.causes.sight.step_response", refused)
    flight = Flight(recording(flown(5, 0.0)), craft=CRAFT)
    found = analyse(flight)
    assert not found.response.steps
    assert "percentage points" in found.response.reasons["roll"]
    assert flight.symptoms.values["overshoot_ratio"] == pytest.approx(least)
    assert ("p_high" in {finding.code for finding in found.judgement.findings}) is (least > 0.3)


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
@pytest.mark.parametrize(
    ("prefixes", "reason", "absent"),
    [
        (("setpoint.roll",), "response.roll", "tracking_error.roll"),
        (("gyro.yaw",), "response.yaw", "overshoot.yaw"),
        (("gyro_raw.", "gyro."), "noise.pitch", "motion_noise.pitch"),
        (("gyro_raw.", "gyro."), "finding.loose_mount", "jitter_noise.roll"),
        (("throttle",), None, "wash_rms.roll"),
        (("motor.",), None, "motor_roughness"),
    ],
)
def test_a_missing_channel_costs_just_what_rests_on_it(prefixes: tuple[str, ...], reason: str | None, absent: str) -> None:
    found = without(*prefixes)
    assert absent not in found.metrics.values
    if reason:
        assert len(reasons_of(found)[reason]) > 20


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_without_raw_gyro_the_filtered_one_is_judged() -> None:
    found = without("gyro_raw.")
    assert not any(noise.raw for noise in found.noise.axes.values())
    assert found.metrics.values["motion_noise.roll"] > 0


@pytest.mark.parametrize(("start_s", "end_s", "kinds"), [(2.5, 3.2, {"noise", "response"}), (3.0, 6.5, {"response"})])
def test_a_short_stretch_is_refused_with_what_to_fly(start_s: float, end_s: float, kinds: set[str]) -> None:
    found = without("nothing", start_s=start_s, end_s=end_s)
    assert {key.split(".")[0] for key in reasons_of(found) if not key.startswith("finding")} == kinds
    assert all(
        "fly" in reason or "needs at least" in reason
        for key, reason in reasons_of(found).items()
        if not key.startswith("finding")
    )


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_only_the_named_roles_are_read(whole: FlightResults) -> None:
    part = recording(flown(5, 1.0))
    kept = {role: values for role, values in part.channels.items() if role.startswith(ROLES)}
    again = of(Recording.of(kept, sample_rate_hz=2000.0, start_s=part.start_s))
    assert again.metrics.values == whole.metrics.values


def test_progress_is_told_and_rises() -> None:
    told: list[float] = []
    flight = Flight(recording(flown(5, 1.0), 2.5, 5.0), craft=CraftFacts())
    analyse(flight, progress=lambda stage, share: told.append(share))
    assert len(told) == len(wanted_analyses("multirotor"))
    assert told == sorted(told)
    assert 0 <= min(told) <= max(told) < 1


@pytest.mark.parametrize("kind", ["multirotor", "fixed_wing"])
def test_every_analysis_of_a_kind_has_a_place_in_the_results(kind: str) -> None:
    assert {one.key for one in wanted_analyses(kind)} <= {field.name for field in fields(FlightResults)}
    assert [one.key for one in wanted_analyses(kind, ("metrics", "noise"))] == ["noise", "metrics"]


@pytest.mark.long("its other cases ask the same", only=("2.5-loop",))
@pytest.mark.parametrize("key", sorted(ANALYSES))
@pytest.mark.parametrize("start_s", [2.5, 27.9])  # all that there is, and a stretch that answers nothing
def test_a_stored_result_comes_back_as_it_was(key: str, start_s: float) -> None:
    craft = replace(CRAFT, kind="fixed_wing") if key in ("wing", "path", "checks") else CRAFT
    result = getattr(analyse(Flight(recording(flown(5, 1.0), start_s, 28.0), craft=craft), only=(key,)), key)
    plain = json.loads(json.dumps(to_json(result), allow_nan=False))
    again = from_json(ANALYSES[key].result, plain)
    assert type(again) is ANALYSES[key].result
    assert to_json(again) == plain


def test_arrays_and_missing_numbers_survive_being_stored(whole: FlightResults) -> None:
    noise = from_json(ANALYSES["noise"].result, to_json(whole.noise))
    before, after = whole.noise.axes["roll"].raw, noise.axes["roll"].raw
    assert after.spectrum.psd_dps2_per_hz == pytest.approx(before.spectrum.psd_dps2_per_hz, rel=1e-5)
    assert after.bands["jitter"].rms_dps == pytest.approx(whole.metrics.values["jitter_noise.roll"])
    untold = MotorShares(values=(1.0, math.nan), motor=1, over_median=2.0, over_second=2.0, n_used=6)
    motors = from_json(ANALYSES["motors"].result, to_json(replace(whole.motors, turning=untold)))
    assert math.isnan(motors.turning.values[1])
    assert motors.roughness.overall_ratio == pytest.approx(whole.motors.roughness.overall_ratio)


def test_reports_state_units_as_documented(whole: FlightResults) -> None:
    report = report_document(whole, {}, spans=(), window_start_s=0.0)
    roll = report["response"]["roll"]
    assert roll["overshoot_pct"] == pytest.approx(100 * whole.response.steps["roll"].overshoot_ratio, rel=1e-5)
    assert roll["overshoot_interval_pct"][0] <= roll["overshoot_pct"] <= roll["overshoot_interval_pct"][1]
    assert report["noise"]["roll"]["bands"]["motion"]["low_hz"] == 20
    loop = whole.loop.axes["roll"]
    for key, own, factor in (
        ("phase_margin_deg", loop.phase_margin_deg, 1), ("sensitivity_peak", loop.sensitivity_peak, 1),
        ("bandwidth_hz", loop.bandwidth_hz, 1), ("rise_time_ms", loop.rise_time_s, 1000), ("delay_ms", loop.delay_s, 1000),
    ):  # fmt: skip
        assert roll[key] == pytest.approx(factor * own.value, rel=1e-5)
    assert roll["phase_margin_interval_deg"] == pytest.approx([loop.phase_margin_deg.low, loop.phase_margin_deg.high], rel=1e-5)
    yaw = report["response"]["yaw"]
    assert (yaw["gain_margin_db"], yaw["gain_margin_above_db"]) == (None, 20.0)
    assert roll["gain_scale"] == dict.fromkeys("pidf"), "no configuration, no scale"
    shown = {"roll": {"p": 43.0, "i": 40.0, "d": 0.0}}
    scaled = report_document(whole, {}, spans=(), window_start_s=0.0, shown_gains=shown)["response"]["roll"]["gain_scale"]
    assert scaled["p"] == pytest.approx(6e-5, rel=0.003)
    assert scaled["d"] is None


def test_log_document_counts_from_the_first_sample() -> None:
    t_s = 100 + np.arange(50) / 10
    per_cent = replace(channel("throttle", np.zeros(50, np.int16), divisor=100.0), factor=0.01)
    stream = Stream(t_s=t_s, channels=(per_cent,))
    note = QualityNote(code="gap", severity="warning", detail="x", start_s=101.0, end_s=102.0)
    log = FlightLog(format_key="nembrit_csv", streams=(stream,), rows_read=50, quality=(note,))
    found = log_document(log, file="a.csv", sha256="0" * 64, window_s=(101.0, 104.0))
    assert found["window_s"] == [1.0, 4.0]
    assert found["channels"][0]["scale"] == 0.01  # of the numbers as written, however they are kept
    assert (found["sample_rate_hz"], found["duration_s"]) == (10.0, pytest.approx(4.9))
    assert log.main is stream
    assert stream.find("gyro.roll") is None


@pytest.mark.parametrize(
    ("value", "digits", "expected"),
    [
        (None, 6, None),
        (math.nan, 6, None),
        (math.inf, 6, None),
        (1.23456789, 3, 1.23),
        (-0.000123456, 2, -0.00012),
        (0.0, 6, 0.0),
    ],
)
def test_rounding_for_json(value: float | None, digits: int, expected: float | None) -> None:
    assert rounded(value, digits) == expected


@pytest.mark.parametrize("kind", METRICS, ids=lambda kind: kind.key)
def test_every_metric_is_explained_and_found_by_its_full_name(kind) -> None:
    name = f"{kind.key}.pitch" if kind.per_axis else kind.key
    assert metric_kind(name) is kind
    assert metric_kind(f"{name}.left") is None
    assert kind.explain
    assert kind.scale in ("log", "linear")
