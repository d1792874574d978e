"""Manoeuvre scores, sustained oscillations, and what was felt against what the log shows."""

from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.analysis.felt import SYMPTOMS, crossed
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse
from nembrit.core.causes.signs import oscillating
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.response.components import COMPONENTS, attitude_hold_deg, scores_of, span_scores, yaw_shortfall_ratio
from nembrit.core.response.oscillation import Oscillation, sustained
from tests.flying import HEX, controller, flown, recording

RATE_HZ = 1000.0
T_S = np.arange(8000) / RATE_HZ


def made(error: np.ndarray, **more: np.ndarray) -> Recording:
    """A set-point at rest and a gyro that leaves it by `error`."""
    still = np.zeros(T_S.size)
    return Recording.of({"setpoint.roll": still, "gyro.roll": -error, **more}, sample_rate_hz=RATE_HZ)


@pytest.mark.parametrize(
    ("key", "kind", "frequency_hz", "factor"),
    [("hover_wobble", "hover", 2.0, 1.0), ("hover_wobble", "hover", 30.0, 0.02), ("float_shimmy", "zero_throttle", 9.0, 1.0),
     ("full_throttle", "full_throttle", 40.0, 1.0), ("full_throttle", "punch", 2.0, 0.05)],
)  # fmt: skip
def test_a_score_is_the_rms_of_its_band(key: str, kind: str, frequency_hz: float, factor: float) -> None:
    part = made(10 * np.sqrt(2) * np.sin(2 * np.pi * frequency_hz * T_S))
    value = COMPONENTS[key].score(part, "roll", [Span(kind=kind, start_s=2.0, end_s=6.0)])
    assert value == pytest.approx(10 * factor, rel=0.05) if factor == 1.0 else value < 10 * factor * 3


def test_attitude_hold_is_the_angle_lost_after_a_jump() -> None:
    error = np.where((T_S >= 3) & (T_S < 3.2), 40.0, 0.0)  # 40 deg/s for 0.2 s: 8 degrees
    assert attitude_hold_deg(made(error), "roll", [Span(kind="punch", start_s=3.0, end_s=5.0)]) == pytest.approx(8.0, rel=0.01)
    assert attitude_hold_deg(made(error), "roll", []) is None
    assert attitude_hold_deg(made(error), "pitch", [Span(kind="punch", start_s=3.0, end_s=5.0)]) is None


@pytest.mark.parametrize(("given", "asked_dps", "share"), [(1.0, 200.0, 0.0), (0.7, 200.0, 0.3), (0.7, 5.0, None)])
def test_yaw_in_turns_is_what_it_lacks(given: float, asked_dps: float, share: float | None) -> None:
    asked = np.full(T_S.size, asked_dps)
    part = Recording.of({"setpoint.yaw": asked, "gyro.yaw": given * asked}, sample_rate_hz=RATE_HZ)
    found = yaw_shortfall_ratio(part, "yaw", [Span(kind="turn", start_s=1.0, end_s=4.0)])
    assert found is None if share is None else found == pytest.approx(share, abs=1e-9)


def test_every_component_of_a_flight_is_scored_and_sound_craft_are_not_notable() -> None:
    part = recording(flown(5))
    spans = manoeuvres(part)
    found = {(one.key, one.axis): one for one in scores_of(part, spans)}
    for key in ("hover_wobble", "bounce_back", "punch_hold", "chop_hold", "wash", "full_throttle"):
        assert (key, "roll") in found, key
    assert not [one for one in found.values() if one.is_notable]
    assert ("float_shimmy", "roll") not in found, "not flown"
    stop = next(span for span in spans if span.kind == "snap_stop" and span.axis == "roll")
    assert set(span_scores(part, stop)) == {"bounce_back.roll"}


@pytest.mark.parametrize(
    ("changes", "axis", "kind", "frequency_hz", "severity"),
    [
        ((("p_on_roll", "390"),), "roll", "p", (20, 30), "stop"),
        ((("d_on_roll", "280"),), "roll", "d", (42, 55), "stop"),
        ((("i_on_roll", "1200"),), "roll", "i", (7, 13), "watch"),
        ((), "roll", None, None, None),
        ((("p_on_roll", "95"), ("p_on_pitch", "95")), "pitch", None, None, None),  # lively, but sound
    ],
)
def test_a_sustained_swing_is_found_and_fed_by_its_term(changes, axis: str, kind, frequency_hz, severity) -> None:
    found = sustained(recording(flown(5, changes=changes)), axis)
    if kind is None:
        assert found is None
        return
    assert (found.kind, found.severity) == (kind, severity)
    assert frequency_hz[0] < found.frequency_hz < frequency_hz[1]
    assert found.end_s - found.start_s >= 2
    finding = oscillating(found)
    assert (finding is not None) == (severity == "stop")
    if finding:
        assert f"oscillated at {found.frequency_hz:.0f} Hz" in finding.summary
        assert "touch the motors" in finding.proof


@pytest.mark.parametrize(("grows_db_per_s", "length_s", "is_found"), [(0.0, 4.0, True), (6.0, 4.0, True), (0.0, 1.4, False)])
def test_growth_and_length(grows_db_per_s: float, length_s: float, is_found: bool) -> None:
    on = (T_S >= 2) & (2 + length_s > T_S)
    swing = 20 * 10 ** (grows_db_per_s * (T_S - 4) / 20) * np.sin(2 * np.pi * 21 * T_S)
    noise = np.random.default_rng(2).normal(0, 1, T_S.size)
    found = sustained(made(np.where(on, swing, 0) + noise), "roll")
    assert (found is not None) == is_found
    if found:
        assert found.frequency_hz == pytest.approx(21, abs=0.5)
        assert found.growth_db_per_s == pytest.approx(grows_db_per_s, abs=1.0)
        assert found.kind == "unknown"


def test_what_turns_with_a_motor_is_no_swing() -> None:
    error = 20 * np.sin(2 * np.pi * 90 * T_S) + np.random.default_rng(2).normal(0, 1, T_S.size)
    assert isinstance(sustained(made(error), "roll"), Oscillation)
    assert sustained(made(error, **{"motor_rpm.1": np.full(T_S.size, 90 * 60.0)}), "roll") is None


def test_a_finding_that_stops_stands_first() -> None:
    flight = Flight(
        recording(flown(5, changes=(("d_on_roll", "280"),))), craft=CraftFacts(mixer=HEX.mixer(), controller=controller())
    )
    found = analyse(flight, only=("judgement",)).judgement
    assert (found.findings[0].code, found.findings[0].severity) == ("oscillation", "stop")


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_what_was_felt_is_set_against_the_log() -> None:
    results = analyse(Flight(recording(flown(5)), craft=CraftFacts(mixer=HEX.mixer())), only=("judgement", "loop"))
    found = {one.symptom.key: one for one in crossed(results, [*SYMPTOMS, "nonsense", "bounce"])}
    assert set(found) == set(SYMPTOMS)
    assert found["bounce"].verdict == "not shown"
    assert (found["shimmy"].verdict, "zero throttle" in found["shimmy"].told) == ("not flown", True)
    loud = replace(results.loop, scores=tuple(replace(one, value=99.0) for one in results.loop.scores))
    felt = crossed(replace(results, loop=loud), ["bounce"])[0]
    assert (felt.verdict, "bounce-back after hard stops of" in felt.told) == ("shown", True)
    assert crossed(FlightResults(), ["buzz"])[0].verdict == "not flown"
