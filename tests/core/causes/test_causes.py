"""Symptoms, single rules, the joint ranking and the findings that come of them."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.causes import p_high, signs
from nembrit.core.causes.findings import History, findings_of
from nembrit.core.causes.ranking import CLEAN, Ranking, likelihoods, rank
from nembrit.core.causes.symptoms import Symptoms, symptoms_of
from nembrit.core.causes.table import CAUSES
from nembrit.core.noise.vibration import Vibration
from nembrit.core.records.log import Recording
from tests.faulty import flown, frames, sight, without

STILL = Vibration(accel_rms_m_s2={}, axis_separation=None, command_peak_hz={}, n_hover_frames=0)


def found_in(recording: Recording, n_motors: int = 6):
    seen = sight(recording, n_motors)
    symptoms = symptoms_of(seen)
    return symptoms, findings_of(seen, symptoms, metrics={})


@pytest.mark.long("flies a craft for every cause; the benchmark of causes asks the same")
@pytest.mark.parametrize(
    ("faults", "code", "axis", "motor"),
    [
        ({"loose_mount": 1.0}, "loose_mount", None, None),
        ({"propeller_motor": 3}, "propeller", None, 3),
        ({"bearing_motor": 5, "bearing_dps": 10.0}, "bearing", None, 5),
        ({"spike_axis": "pitch"}, "electrical_spikes", "pitch", None),
        ({"noisy_axis": "roll"}, "noisy_axis", "roll", None),
        ({"arm_axis": "pitch"}, "loose_arm", "pitch", None),
    ],
)
@pytest.mark.parametrize("seed", [12])
def test_a_planted_fault_is_the_first_cause(
    faults: dict[str, object], code: str, axis: str | None, motor: int | None, seed: int
) -> None:
    _, findings = found_in(flown(seed, **faults))
    assert (findings[0].code, findings[0].axis, findings[0].motor) == (code, axis, motor)
    assert findings[0].severity in ("act", "watch")
    assert findings[0].holds_gains_back == (findings[0].severity == "act")
    assert findings[0].look_alikes
    assert findings[0].causes[0] == code


@pytest.mark.long(
    "flies a craft for every cause; the benchmark of causes asks the same",
    only=(
        "12",
        "13",
    ),
)
@pytest.mark.parametrize("seed", [11, 12, 13])
def test_a_sound_craft_asks_for_nothing(seed: int) -> None:
    _, findings = found_in(flown(seed))
    assert not [finding.code for finding in findings if finding.severity in ("act", "stop")]


@pytest.mark.parametrize(
    ("left_out", "untested"),
    [
        (("motor",), {"propeller", "bearing"}),
        (("gyro_raw", "gyro."), {"loose_mount", "noisy_axis", "electrical_spikes", "p_high", "filters_low"}),
        (("term_",), {"i_low", "d_noise"}),
        (("gyro_raw",), {"electrical_spikes", "filters_low"}),
    ],
)
def test_what_a_log_cannot_answer_is_named_with_what_to_do(left_out: tuple[str, ...], untested: set[str]) -> None:
    symptoms, findings = found_in(without(flown(), *left_out))
    assert untested <= symptoms.untested.keys()
    assert all(len(reason) > 15 for reason in symptoms.untested.values())
    assert not {finding.code for finding in findings} & (untested - {"electrical_spikes"})


def test_a_short_log_is_refused_not_guessed() -> None:
    symptoms, findings = found_in(flown().span(4.0, 4.4))
    assert "loose_mount" in symptoms.untested
    assert not [finding for finding in findings if finding.severity == "act"]


EMPTY = Recording.of({"other": np.zeros(10)}, sample_rate_hz=2000.0)


def told_of(values: dict[str, float], seen: dict[str, object] | None = None):
    """Findings of numbers alone."""
    no_swing = {"p_high": p_high.Swing(oscillations={})}
    return findings_of(sight(EMPTY), Symptoms(values=values, seen=seen or no_swing), metrics={})


NAMES = (
    "hump_weaker_db",
    "resonance_db",
    "turn_over_median",
    "rough_over_second",
    "spike_coincident",
    "noisy_axis_db",
    "oscillation_db",
)
BASE = {
    "hump_weaker_db": -4.0, "hump_stronger_db": -3.0, "hump_width_hz": 20.0, "hump_hz": 60.0,
    "arm_db": 3.0, "arm_beyond_db": 1.0, "resonance_db": 3.0, "resonance_rms_dps": 0.05,
    "turn_over_median": 1.3, "turn_over_second": 1.1, "turn_is_recorded": 1.0, "rough_over_second": 1.2, "rough_level": 0.01,
    "spike_count": 0.0, "spike_coincident": 0.0, "noisy_axis_db": 0.1, "d_over_p": 6.0, "output_roughness": 0.02,
    "oscillation_db": 4.0, "oscillation_hz": 12.0, "chain_delay_ms": 1.5, "integral_ratio": 4.0,
}  # fmt: skip


@settings(max_examples=60)
@given(st.dictionaries(st.sampled_from(sorted(BASE)), st.floats(-50, 500), max_size=8))
def test_likelihoods_are_those_of_sets(changed: dict[str, float]) -> None:
    likelihood = rank({**BASE, **changed}).likelihood
    # each is a probability; two faults at once count for both, so that together they reach two at most
    assert all(0 <= value <= 1 + 1e-9 for value in likelihood.values())
    assert 1 - 1e-9 <= sum(likelihood.values()) <= 2 - likelihood[CLEAN] + 1e-9
    assert set(likelihood) == {CLEAN, *(cause.code for cause in CAUSES)}


@pytest.mark.parametrize(
    ("name", "code", "more"),
    [
        ("hump_weaker_db", "loose_mount", (0.0, 4.0, 9.0)),
        ("turn_over_median", "propeller", (1.5, 3.0, 6.0)),
        ("rough_over_second", "bearing", (2.0, 4.0, 16.0)),
        ("spike_coincident", "electrical_spikes", (3.0, 10.0, 40.0)),
        ("noisy_axis_db", "noisy_axis", (3.0, 6.0, 12.0)),
        ("chain_delay_ms", "filters_low", (3.0, 4.0, 6.0)),
        ("overshoot_ratio", "p_high", (0.1, 0.3, 0.5)),
        ("d_over_p", "d_noise", (10.0, 30.0, 60.0)),
        ("lost_share", "p_high", (0.4, 0.7, 0.95)),
        ("idle_lag_ratio", "idle_low", (1.2, 1.8, 3.0)),
    ],
)
def test_more_evidence_never_makes_a_cause_less_likely(name: str, code: str, more: tuple[float, ...]) -> None:
    values = [rank({**BASE, name: value}).likelihood[code] for value in more]
    assert values == sorted(values)
    assert values[-1] > rank(BASE).likelihood[code]


@pytest.mark.parametrize(
    ("changed", "axis", "told"),
    [
        ({"overshoot_ratio": 0.45}, "pitch", "Pitch overshoots by at least 45 %"),
        ({"oscillation_db": 20.0, "oscillation_hz": 30.0, "d_over_p": 1.0}, "roll", "Roll oscillates at 30 Hz, 20 dB above"),
        ({"oscillation_db": 20.0, "oscillation_hz": 30.0, "d_over_p": 1.0, "chain_delay_ms": 5.0}, None, "5.0 ms"),
        ({"overshoot_ratio": 0.15}, None, ""),
    ],
)
def test_p_too_high_is_told_by_overshoot_or_swing_and_not_beside_slow_filters(
    changed: dict[str, float], axis: str | None, told: str
) -> None:
    swing = (changed.get("oscillation_db", 4.0), changed.get("oscillation_hz", 12.0))
    seen = {"p_high": p_high.Swing(oscillations={"roll": swing}, overshoot_axis="pitch")}
    found = told_of({"overshoot_ratio": 0.1, **BASE, **changed}, seen)
    if not told:
        assert "p_high" not in {finding.code for finding in found}
        return
    assert told in found[0].summary
    assert (found[0].code == "p_high") is (axis is not None)
    assert found[0].axis == axis


@pytest.mark.parametrize("changed", [{}, {"integral_ratio": 0.2}, {"idle_lag_ratio": 9.0}], ids=["alone", "I", "idle"])
def test_motors_at_their_limits_speak_of_p_and_of_nothing_else(changed: dict[str, float]) -> None:
    """I that is held, and propellers driven to their lowest speed, are what a far too high P does."""
    found = told_of({**BASE, "lost_share": 0.95, **changed})
    assert found[0].code == "p_high"
    assert "at their limits for 95% of the flight" in found[0].summary
    calm = told_of({**BASE, "lost_share": 0.1, **changed})
    assert {finding.code for finding in calm} == (
        {"integral_ratio": {"i_low"}, "idle_lag_ratio": {"idle_low"}}[next(iter(changed))] if changed else set()
    )


@pytest.mark.parametrize(
    ("likelihood", "severity", "told"),
    [
        (0.05, None, ""),
        (0.14, "info", "Probably not (14% likely)"),
        (0.4, "watch", "it heats the motors without helping"),
        (0.9, "act", "it heats the motors without helping"),
    ],
)
def test_how_likely_a_cause_is_sets_how_loudly_it_is_told(
    monkeypatch: pytest.MonkeyPatch, likelihood: float, severity: str | None, told: str
) -> None:
    ranking = Ranking(likelihood={CLEAN: 1 - likelihood, "d_noise": likelihood}, unjudged=())
    monkeypatch.setattr("nembrit.core.causes.findings.rank", lambda _: ranking)
    found = told_of(BASE)
    assert [finding.severity for finding in found] == ([severity] if severity else [])
    assert all(told in finding.summary for finding in found)


def test_a_cause_without_its_channels_is_neither_blamed_nor_cleared() -> None:
    bare = rank({})
    assert set(bare.unjudged) == {cause.code for cause in CAUSES}
    # half of all flights are sound, and nothing was measured that could say more
    assert bare.likelihood[CLEAN] == pytest.approx(0.5)
    assert {round(value, 6) for code, value in bare.likelihood.items() if code != CLEAN} == {round(0.5 / len(CAUSES), 6)}
    assert told_of({}) == ()


@pytest.mark.parametrize(
    ("scores", "cost", "untold", "expected"),
    [
        # worked by hand: weights of the sets are e^score, those of a pair e^(sum − cost)
        ({"a": 0.0}, 4.0, [], {CLEAN: 1 / 2, "a": 1 / 2}),
        ({"a": math.log(3), "b": 0.0}, math.log(3), [], {CLEAN: 1 / 6, "a": 4 / 6, "b": 2 / 6}),
        ({"a": math.log(3), "b": 0.0}, math.log(3), ["b"], {CLEAN: 1 / 5, "a": 3 / 5, "b": 1 / 5}),
        ({"p_high": math.log(3), "filters_low": 0.0}, 0.0, [], {CLEAN: 1 / 5, "p_high": 3 / 5, "filters_low": 1 / 5}),
    ],
)
def test_likelihoods_by_hand(scores: dict[str, float], cost: float, untold: list[str], expected: dict[str, float]) -> None:
    assert likelihoods(scores, cost, untold=untold) == pytest.approx(expected)


def test_two_faults_at_once_are_both_found() -> None:
    _, findings = found_in(flown(12, propeller_motor=3, noisy_axis="yaw"))
    assert {"propeller", "noisy_axis"} <= {finding.code for finding in findings if finding.severity in ("act", "watch")}


def test_numbers_behind_a_finding_stand_beside_the_usual_ones() -> None:
    _, findings = found_in(flown(12, noisy_axis="roll"))
    (reading,) = findings[0].readings
    assert (reading.unit, reading.is_usual) == ("dB", False)
    assert reading.value > reading.high


@pytest.mark.parametrize(
    ("finding", "code"),
    [
        (signs.slow_log(500.0), "log_rate_low"),
        (signs.slow_log(2000.0), None),
        (signs.overlap(STILL), None),
        (
            signs.overlap(Vibration(accel_rms_m_s2={}, axis_separation=1.2, command_peak_hz={}, n_hover_frames=9)),
            "vibration",
        ),
        (signs.filters_open(2.0, 1.9, 0.05), "filters_open"),
        (signs.filters_open(2.0, 0.4, 0.05), None),
        (signs.filters_open(2.0, 3.0, 0.05), "filters_open"),
        (signs.filters_open(None, 1.0, 0.05), None),
        (signs.wash({"roll": 40.0, "pitch": 30.0}), "wash"),
        (signs.wash({"roll": 5.0}), None),
        (signs.idle_low(None), None),
        (signs.idle_low(1.4), None),
        (signs.idle_low(4.0), "idle_low"),
        (signs.sensor_worse("roll", 9.0, [2.0, 2.1, 1.9, 2.0]), "sensor_worse"),
        (signs.sensor_worse("roll", 2.2, [2.0, 2.1, 1.9, 2.0]), None),
        (signs.sensor_worse("roll", 9.0, [2.0, 2.1]), None),
        (signs.spikes_moved("roll", ["yaw", "yaw"]), "spikes_moved"),
        (signs.spikes_moved("roll", ["yaw", "roll"]), None),
        (signs.spikes_moved(None, ["yaw"]), None),
    ],
)
def test_single_rules(finding, code: str | None) -> None:
    assert (finding.code if finding else None) == code
    assert finding is None or (finding.severity in ("info", "watch") and finding.proof and finding.highlight)


def test_a_swing_that_comes_and_goes_is_told_from_a_steady_one() -> None:
    rng = np.random.default_rng(3)
    t_s = np.arange(60_000) / 2000
    swing = 6 * np.sin(2 * np.pi * 30 * t_s)
    for burst, code in (((t_s % 4) < 0.5, "swing_erratic"), (np.ones(t_s.size, bool), "swing_consistent")):
        from nembrit.core.spectra.frames import frames_of

        recording = Recording.of({"gyro.roll": swing * burst + rng.normal(0, 0.3, t_s.size)}, sample_rate_hz=2000.0)
        found = signs.swing_kind(frames_of(recording), "roll", (15.0, 30.0))
        assert found.code == code
    assert signs.swing_kind(frames(), "roll", (3.0, 30.0)) is None


def test_a_craft_s_own_history_is_part_of_the_findings() -> None:
    seen = sight(flown(11, spike_axis="pitch"))
    history = History(metrics={"motion_noise.roll": [0.1, 0.1, 0.11, 0.1]}, spike_axes=("yaw",))
    found = findings_of(seen, symptoms_of(seen), metrics={"motion_noise.roll": 0.9}, history=history)
    assert {"spikes_moved", "electrical_spikes"} <= {finding.code for finding in found}
    assert "sensor_worse" in {finding.code for finding in found}


@pytest.mark.parametrize(("filtered_dps", "adds"), [(1.9, False), (3.0, True)])
def test_filters_that_add_noise_are_told_apart_from_open_ones(filtered_dps: float, adds: bool) -> None:
    found = signs.filters_open(2.0, filtered_dps, 0.05)
    assert found
    assert ("they add noise themselves" in found.summary) is adds
    assert ("without the filters that follow" in found.proof) is adds
