"""Every threshold of the causes and signs: a case just below it, just above it, and one unit beyond."""

import math

import numpy as np
import pytest

from nembrit.core.causes import findings, signs
from nembrit.core.causes.cause import Values, within_limits
from nembrit.core.causes.finding import Finding
from nembrit.core.causes.table import BY_CODE, CAUSES
from nembrit.core.noise.roughness import OutputRoughness
from nembrit.core.noise.vibration import Vibration
from nembrit.core.records.log import Recording
from nembrit.core.spectra.frames import frames_of

NEAR = 1e-6


def power2(exponent: float) -> float:
    return 2.0**exponent


# cause, evidence's place, the other numbers, the number that moves, how it is written, where it starts to count, its unit
RISING = [
    ("loose_mount", 0, {"hump_stronger_db": 0, "hump_width_hz": 30, "hump_hz": 60}, "hump_weaker_db", float, 0.0, 2.5),
    ("loose_mount", 1, {"hump_weaker_db": 0, "hump_width_hz": 30, "hump_hz": 60}, "hump_stronger_db", float, 3.0, 2.5),
    ("frame_resonance", 1, {"resonance_db": 99}, "resonance_rms_dps", power2, -2.0, 0.5),
    ("frame_resonance", 0, {"resonance_rms_dps": 99}, "resonance_db", float, 6.0, 2.5),
    ("propeller", 0, {"turn_over_second": 1, "turn_is_recorded": 1.0}, "turn_over_median", power2, 0.7, 0.3),
    ("propeller", 1, {"turn_over_median": 1, "turn_is_recorded": 1.0}, "turn_over_second", power2, 0.5, 0.3),
    ("propeller", 0, {"turn_over_second": 1, "turn_is_recorded": 0.0}, "turn_over_median", power2, 0.5, 0.25),
    ("propeller", 1, {"turn_over_median": 1, "turn_is_recorded": 0.0}, "turn_over_second", power2, 0.3, 0.25),
    ("loose_arm", 0, {}, "arm_beyond_db", float, 5.0, 2.5),
    ("loose_arm", 1, {"arm_beyond_db": 99}, "arm_softening_ratio", float, 0.04, 0.05),
    ("bearing", 0, {"rough_level": 1}, "rough_over_second", power2, 0.5, 0.5),
    ("bearing", 0, {"rough_over_second": 99}, "rough_level", lambda e: 10.0**e, -2.5, 0.5),
    ("bearing", 1, {"rough_over_second": 99}, "rough_level", lambda e: 10.0**e, -1.0, 0.5),
    ("electrical_spikes", 0, {"spike_count": 0}, "spike_coincident", math.expm1, 0.5, 0.5),
    ("electrical_spikes", 1, {"spike_coincident": 0}, "spike_count", math.expm1, 1.5, 1.0),
    ("noisy_axis", 0, {}, "noisy_axis_db", float, 2.0, 2.0),
    ("d_noise", 0, {"output_roughness": 1}, "d_over_p", power2, 3.9, 0.4),
    ("d_noise", 1, {"d_over_p": 999}, "output_roughness", power2, -5.5, 0.75),
    ("d_noise", 2, {"output_roughness": 1, "d_over_p": 999}, "d_filter_db", float, -7.0, 1.5),
    ("p_high", 0, {}, "overshoot_ratio", float, 0.2, 0.06),
    ("p_high", 0, {}, "lost_share", float, 0.55, 0.1),
    ("p_high", 0, {"oscillation_hz": 30}, "oscillation_db", float, 10.0, 2.0),
    ("p_high", 1, {"oscillation_db": 9}, "d_over_p", lambda e: power2(-e), -2.2, 0.4),
    ("p_high", 2, {}, "sensitivity_peak_low", float, 1.8, 0.4),
    ("filters_low", 2, {"chain_delay_ms": 0}, "chain_lag_deg", float, 14.0, 4.0),
    ("filters_low", 2, {"chain_delay_ms": 0, "chain_lag_deg": 99}, "sensitivity_peak_low", float, 1.4, 0.2),
    ("i_low", 0, {}, "integral_ratio", lambda e: power2(-e), -0.3, 0.5),
    ("filters_low", 0, {}, "chain_delay_ms", float, 3.2, 0.35),
    ("filters_low", 1, {"chain_delay_ms": 9}, "oscillation_db", float, 3.5, 1.0),
    ("idle_low", 0, {}, "idle_lag_ratio", power2, 0.5, 0.25),
]  # fmt: skip


@pytest.mark.parametrize(
    ("peaks", "axis"), [({}, None), ({"roll": 2.0}, None), ({"yaw": 9.0}, None), ({"roll": 2.0 + NEAR, "pitch": 1.9}, "roll")]
)
def test_a_margin_is_low_where_the_whole_interval_says_so(peaks: dict[str, float], axis: str | None) -> None:
    found = signs.margin_low(peaks)
    assert (found and found.axis) == axis


@pytest.mark.parametrize(("code", "place", "others", "name", "written", "start", "unit"), RISING)
def test_evidence_begins_at_its_threshold_and_rises_by_its_unit(code, place, others, name, written, start, unit) -> None:
    def at(value: float) -> float:
        return BY_CODE[code].evidence({**others, name: written(value)})[place]

    assert at(start - 0.01 * unit) == 0
    assert at(start + 0.01 * unit) == pytest.approx(0.01, rel=1e-3)
    assert at(start + unit) == pytest.approx(1.0)
    assert at(start + 9 * unit) == pytest.approx(4.0), "more than four units say no more"


# cause, evidence's place, the others, the number, and its value by how much of the evidence is left
FADING = [
    ("loose_mount", 0, {"hump_weaker_db": 2.5, "hump_stronger_db": 0, "hump_hz": 60}, "hump_width_hz",
     ((7.9, 0), (14, 0.5), (20.1, 1))),
    ("loose_mount", 0, {"hump_weaker_db": 2.5, "hump_stronger_db": 0, "hump_width_hz": 20}, "hump_hz",
     ((84, 1), (92.5, 0.5), (101, 0))),
    ("d_noise", 0, {"output_roughness": 1, "d_over_p": power2(4.3)}, "hump_weaker_db", ((2.9, 1), (4.5, 0.5), (6.1, 0))),
    ("p_high", 0, {"overshoot_ratio": 0.26}, "sensitivity_peak_high", ((1.69, 0), (1.95, 0.5), (2.3, 1))),
    ("d_noise", 2, {"output_roughness": 1, "d_filter_db": -5.5}, "d_over_p",
     ((power2(2.49), 0), (power2(3.0), 0.5), (power2(3.6), 1))),
    ("p_high", 0, {"overshoot_ratio": 0.26}, "chain_delay_ms", ((3.9, 1), (4.5, 0.5), (5.1, 0))),
    ("p_high", 0, {"oscillation_db": 12}, "oscillation_hz", ((39.9, 1), (45, 0.5), (50.1, 0))),
    ("i_low", 0, {"integral_ratio": power2(-0.2)}, "oscillation_db", ((8.9, 1), (10.5, 0.5), (12.1, 0))),
    ("i_low", 0, {"integral_ratio": power2(-0.2)}, "overshoot_ratio", ((0.19, 1), (0.25, 0.5), (0.31, 0))),
    ("i_low", 0, {"integral_ratio": power2(-0.2)}, "lost_share", ((0.49, 1), (0.625, 0.5), (0.76, 0))),
    ("idle_low", 0, {"idle_lag_ratio": power2(0.75)}, "lost_share", ((0.49, 1), (0.625, 0.5), (0.76, 0))),
]  # fmt: skip


@pytest.mark.parametrize(("code", "place", "others", "name", "expected"), FADING)
def test_evidence_fades_where_another_number_explains_it(code, place, others, name, expected) -> None:
    for value, share in expected:
        assert BY_CODE[code].evidence({**others, name: value})[place] == pytest.approx(share, abs=1e-6), (name, value)


@pytest.mark.parametrize(("swing_db", "lead"), [(2.49, 0.0), (2.51, 1.0)])
def test_a_lead_of_p_over_d_counts_beside_a_swing_only(swing_db: float, lead: float) -> None:
    found = BY_CODE["p_high"].evidence({"oscillation_db": swing_db, "d_over_p": power2(1.8)})
    assert found[1] == pytest.approx(lead)


@pytest.mark.parametrize(("lost", "left"), [(None, 1.0), (0.5, 1.0), (0.6, 0.6), (0.75, 0.0), (0.9, 0.0)])
def test_what_cannot_be_judged_at_the_motors_limits(lost: float | None, left: float) -> None:
    assert within_limits({} if lost is None else {"lost_share": lost}) == pytest.approx(left)


@pytest.mark.parametrize(
    ("code", "values", "is_only_a_sign"),
    [
        ("propeller", {"turn_is_recorded": 0.0, "turn_over_median": 3.99}, True),
        ("propeller", {"turn_is_recorded": 0.0, "turn_over_median": 4.01}, False),
        ("propeller", {"turn_is_recorded": 1.0, "turn_over_median": 2.0}, False),
        ("d_noise", {"output_roughness": 0.0099}, True),
        ("d_noise", {"output_roughness": 0.0101}, False),
        ("p_high", {"sensitivity_peak_low": 1.69, "oscillation_db": 20.0}, True),
        ("p_high", {"sensitivity_peak_low": 1.71}, False),
        ("p_high", {"oscillation_db": 11.9}, True),
        ("p_high", {"oscillation_db": 12.1}, False),
        ("p_high", {"lost_share": 0.61, "sensitivity_peak_low": 1.2}, False),
    ],
)
def test_what_is_likely_yet_not_worth_acting_on(code: str, values: Values, is_only_a_sign: bool) -> None:
    assert BY_CODE[code].is_only_a_sign(values) is is_only_a_sign


@pytest.mark.parametrize("cause", CAUSES, ids=lambda cause: cause.code)
def test_a_cause_s_file_is_whole(cause) -> None:
    assert cause.evidence({}) is None
    assert cause.look_alikes
    assert cause.proof.endswith(".")
    assert (cause.repair is None) == (cause.kind == "tune")


def still(**changed: object) -> Vibration:
    return Vibration(**{"accel_rms_m_s2": {}, "axis_separation": None, "command_peak_hz": {}, "n_hover_frames": 9, **changed})


# a sign just not told, and just told
SIGNS = [
    (signs.slow_log, (1000.0,), (999.9,)),
    (signs.overlap, (still(axis_separation=2.0),), (still(axis_separation=1.999),)),
    (signs.filters_open, (1.0, 0.799, 0.05), (1.0, 0.8, 0.05)),
    (signs.filters_open, (1.0, 0.9, 0.0299), (1.0, 0.9, 0.03)),
    (signs.wash, ({"roll": 25.0},), ({"roll": 25.1},)),
    (signs.idle_low, (2.99,), (3.0,)),
    (signs.sensor_worse, ("roll", 2.59, [2.0, 2.0, 2.0, 2.0]), ("roll", 2.6, [2.0, 2.0, 2.0, 2.0])),
    (signs.spikes_moved, ("roll", ["roll"]), ("roll", ["yaw"])),
]


@pytest.mark.parametrize(("sign", "not_told", "told"), SIGNS)
def test_a_sign_is_told_from_its_threshold_on(sign, not_told: tuple, told: tuple) -> None:
    assert sign(*not_told) is None
    assert isinstance(sign(*told), Finding)


@pytest.mark.parametrize(("passed", "adds"), [(1.09, False), (1.11, True)])
def test_filters_add_noise_from_a_tenth_on(passed: float, adds: bool) -> None:
    assert ("add noise themselves" in signs.filters_open(1.0, passed, 0.05).summary) is adds


@pytest.mark.parametrize(("level_db", "is_told"), [(7.9, False), (8.1, True)])
def test_a_swing_is_called_erratic_or_steady_from_eight_decibels_on(level_db: float, is_told: bool) -> None:
    t_s = np.arange(20_000) / 1000
    gyro = 6 * np.sin(2 * np.pi * 30 * t_s) + np.random.default_rng(1).normal(0, 0.3, t_s.size)
    frames = frames_of(Recording.of({"gyro.roll": gyro}, sample_rate_hz=1000.0))
    assert (signs.swing_kind(frames, "roll", (level_db, 30.0)) is not None) is is_told


@pytest.mark.parametrize(
    ("likelihood", "severity"),
    [(0.799, "watch"), (0.801, "act"), (0.249, "info"), (0.251, "watch"), (0.099, None), (0.101, "info")],
)
def test_how_likely_a_cause_must_be(monkeypatch: pytest.MonkeyPatch, likelihood: float, severity: str | None) -> None:
    from nembrit.core.causes.ranking import CLEAN, Ranking
    from tests.core.causes.test_causes import BASE, told_of

    ranking = Ranking(likelihood={CLEAN: 1 - likelihood, "i_low": likelihood}, unjudged=())
    monkeypatch.setattr(findings, "rank", lambda _: ranking)
    assert [one.severity for one in told_of(BASE)] == ([severity] if severity else [])


def test_roughness_is_the_root_of_the_mean_power() -> None:
    assert OutputRoughness(by_motor={1: 0.03, 2: 0.04}).overall_ratio == pytest.approx(math.sqrt((0.0009 + 0.0016) / 2))
