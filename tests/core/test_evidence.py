"""One call analyses a flight: what is missing is said, never guessed; documents hold plain JSON."""

import json
import math
from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.records.log import FlightLog, QualityNote, Recording, Stream, channel
from nembrit.core.report.documents import evidence_document, log_document, report_document, rounded
from nembrit.core.report.evidence import ROLES, VERSION, Evidence, analyse
from nembrit.core.response.step import UncertainStep
from nembrit.core.trials.metrics import METRICS, metric_kind, metric_names
from nembrit.core.types import AXES
from tests.flying import HEX, flown, recording


@pytest.fixture(scope="module")
def whole() -> Evidence:
    return analyse(recording(flown(5, 1.0)), mixer=HEX.mixer())


def without(*prefixes: str, start_s: float = 2.5, end_s: float = 28.0) -> Evidence:
    part = recording(flown(5, 1.0), start_s, end_s)
    kept = {role: values for role, values in part.channels.items() if not role.startswith(prefixes)}
    return analyse(Recording.of(kept, sample_rate_hz=2000.0, start_s=start_s), mixer=HEX.mixer())


def test_a_whole_log_answers_everything(whole: Evidence) -> None:
    assert whole.reasons.keys() == {"finding.idle_low"}  # the card has no float
    assert set(whole.raw) == set(whole.filtered) == set(whole.steps) == set(AXES)
    assert set(whole.metrics) == set(metric_names())
    assert [finding.code for finding in whole.findings] == ["loose_mount"]


@pytest.mark.parametrize(("overshoot", "error", "least"), [(0.7, 0.16, 0.54), (0.1, 0.2, 0.0)])
def test_a_response_that_cannot_be_shown_still_speaks_for_or_against_p(
    monkeypatch: pytest.MonkeyPatch, overshoot: float, error: float, least: float
) -> None:
    def refused(*args: object, **options: object) -> None:
        raise UncertainStep(overshoot, error)

    monkeypatch.setattr("nembrit.core.report.evidence.step_response", refused)
    found = analyse(recording(flown(5, 0.0)), mixer=HEX.mixer())
    assert not found.steps
    assert "percentage points" in found.reasons["response.roll"]
    assert found.symptoms.values["overshoot_ratio"] == pytest.approx(least)
    assert ("p_high" in {finding.code for finding in found.findings}) is (least > 0.3)


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
    assert absent not in found.metrics
    if reason:
        assert reason in found.reasons
        assert len(found.reasons[reason]) > 20


def test_without_raw_gyro_the_filtered_one_is_judged() -> None:
    found = without("gyro_raw.")
    assert found.raw == {}
    assert found.metrics["motion_noise.roll"] > 0


@pytest.mark.parametrize(("start_s", "end_s", "kinds"), [(2.5, 3.2, {"noise", "response"}), (3.0, 6.5, {"response"})])
def test_a_short_stretch_is_refused_with_what_to_fly(start_s: float, end_s: float, kinds: set[str]) -> None:
    found = without("nothing", start_s=start_s, end_s=end_s)
    assert {key.split(".")[0] for key in found.reasons if not key.startswith("finding")} == kinds
    assert all(
        "fly" in reason or "needs at least" in reason for key, reason in found.reasons.items() if not key.startswith("finding.")
    )


def test_only_the_named_roles_are_read(whole: Evidence) -> None:
    part = recording(flown(5, 1.0))
    kept = {role: values for role, values in part.channels.items() if role.startswith(ROLES)}
    again = analyse(Recording.of(kept, sample_rate_hz=2000.0, start_s=part.start_s), mixer=HEX.mixer())
    assert again.metrics == whole.metrics


def test_progress_is_told_and_rises() -> None:
    told: list[float] = []
    analyse(recording(flown(5, 1.0), 2.5, 5.0), mixer=None, progress=lambda stage, share: told.append(share))
    assert len(told) == 7
    assert told == sorted(told)
    assert 0 <= min(told) <= max(told) < 1


def test_stored_evidence_is_plain_json_that_pages_can_draw(whole: Evidence) -> None:
    stored = json.loads(json.dumps(evidence_document(whole), allow_nan=False))
    assert stored["version"] == VERSION
    noise = stored["noise"]["roll"]["raw"]
    assert len(noise["frequency_hz"]) == len(noise["psd_dps2_per_hz"]) == 501
    assert noise["interval_ratio"][0] < 1 < noise["interval_ratio"][1]
    step = stored["response"]["yaw"]
    assert len(step["t_ms"]) == len(step["response"]) == len(step["low"]) == len(step["high"])
    assert step["delay_ms"] == pytest.approx(1000 * whole.steps["yaw"].delay_s, rel=1e-5)


def test_reports_state_units_as_documented(whole: Evidence) -> None:
    report = report_document(whole, {})
    roll = report["response"]["roll"]
    assert roll["overshoot_pct"] == pytest.approx(100 * whole.steps["roll"].overshoot_ratio, rel=1e-5)
    assert roll["overshoot_interval_pct"][0] <= roll["overshoot_pct"] <= roll["overshoot_interval_pct"][1]
    assert report["noise"]["roll"]["bands"]["motion"]["low_hz"] == 20


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
