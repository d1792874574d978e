"""Causes: how strongly a flight's symptoms speak for each, on scales that the ranking weighs.

Every cause is judged by its own evidence only; `ranking.py` sets them against each other and against “clean”.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

MECHANICAL, ELECTRICAL, TUNE = "mechanical", "electrical", "tune"
Values = Mapping[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """One thing that can be wrong; `evidence` gives numbers from 0 (nothing) up, None where it cannot be judged."""

    code: str
    kind: str
    name: str
    evidence: Callable[[Values], tuple[float, ...] | None]
    n_evidence: int
    look_alikes: tuple[tuple[str, str], ...]  # other cause → the test that tells them apart
    proof: str


def _over(value: float, start: float, unit: float, most: float = 4.0) -> float:
    """0 up to `start`, then one for every `unit` more.

    >>> _over(5.0, 3.0, 2.0), _over(1.0, 3.0, 2.0)
    (1.0, 0.0)
    """
    return float(np.clip((value - start) / unit, 0.0, most))


def _log2(value: float) -> float:
    return float(np.log2(max(value, 1e-6)))


def _hump(v: Values) -> tuple[float, ...] | None:
    if "hump_weaker_db" not in v:
        return None
    wide = float(np.clip((v["hump_width_hz"] - 8) / 12, 0.0, 1.0))
    return (_over(v["hump_weaker_db"], 0.0, 2.5) * wide, _over(v["hump_stronger_db"], 3.0, 2.5) * wide)


def _resonance(v: Values) -> tuple[float, ...] | None:
    if "resonance_db" not in v:
        return None
    loud = _over(_log2(v["resonance_rms_dps"]), -2.0, 0.5)  # from a quarter of a degree a second on
    return (min(loud, _over(v["resonance_db"], 6.0, 2.5)), loud)


def _propeller(v: Values) -> tuple[float, ...] | None:
    if "turn_over_median" not in v:
        return None
    # speeds that are estimated blur motors into one another
    start, unit = (0.7, 0.3) if v.get("turn_is_recorded", 1.0) else (0.5, 0.25)
    return (_over(_log2(v["turn_over_median"]), start, unit), _over(_log2(v["turn_over_second"]), start - 0.2, unit))


def _bearing(v: Values) -> tuple[float, ...] | None:
    if "rough_over_second" not in v:
        return None
    lead = _over(_log2(v["rough_over_second"]), 0.5, 0.5)
    return (lead, min(lead, _over(float(np.log10(max(v["rough_level"], 1e-6))), -2.0, 0.5)))


def _spikes(v: Values) -> tuple[float, ...] | None:
    if "spike_coincident" not in v:
        return None
    return (
        _over(float(np.log1p(max(v["spike_coincident"], 0.0))), 0.5, 0.5),
        _over(float(np.log1p(max(v["spike_count"], 0.0))), 1.5, 1.0),
    )


def _noisy_axis(v: Values) -> tuple[float, ...] | None:
    return (_over(v["noisy_axis_db"], 2.0, 2.0),) if "noisy_axis_db" in v else None


def _d_noise(v: Values) -> tuple[float, ...] | None:
    if "d_over_p" not in v or "output_roughness" not in v:
        return None
    ratio = _over(_log2(v["d_over_p"]), 3.9, 0.4)
    # an open filter is a fault only where D has something to pass on
    is_large = float(np.clip(_log2(v["d_over_p"]) - 2.5, 0.0, 1.0))
    opened = _over(v.get("d_filter_db", -20.0), -7.0, 1.5) * is_large
    return (ratio, min(ratio, _over(_log2(v["output_roughness"]), -5.5, 0.75)), opened)


def _p_high(v: Values) -> tuple[float, ...] | None:
    if not {"oscillation_db", "overshoot_ratio", "lost_share"} & v.keys():
        return None
    slow_chain = float(np.clip((v.get("chain_delay_ms", 2.0) - 4.0) / 1.0, 0.0, 1.0))
    swing_db = v.get("oscillation_db", 0.0)
    # P high above D: the loop swings more than D holds against (a second sign, counted only beside the first)
    lead = _over(2.2 - _log2(v.get("d_over_p", 8.0)), 0.0, 0.4) if swing_db > 2.5 else 0.0
    past = _over(v.get("overshoot_ratio", 0.0), 0.2, 0.06)
    # a swing that no sound craft shows is enough by itself; from 50 Hz on it is a mount rather than the loop
    loud = _over(swing_db, 10.0, 2.0) * float(np.clip((50 - v.get("oscillation_hz", 0.0)) / 10, 0.0, 1.0))
    # motors at their limits for most of the flight: whatever the sticks do, the loop asks for more than there is
    beyond = _over(v.get("lost_share", 0.0), 0.55, 0.1)
    return tuple(sign * (1 - slow_chain) for sign in (max(loud, past, beyond), lead))


def _filters_low(v: Values) -> tuple[float, ...] | None:
    if "chain_delay_ms" not in v:
        return None
    late = _over(v["chain_delay_ms"], 3.2, 0.35)
    # a late loop rings; a long but harmless chain on a slow craft does not
    return (late, min(late, _over(v.get("oscillation_db", 0.0), 3.5, 1.0)))


def _i_low(v: Values) -> tuple[float, ...] | None:
    if "integral_ratio" not in v:
        return None
    # the P term of a loop that swings or overshoots is large whatever I does
    steady = 1 - float(np.clip((v.get("oscillation_db", 0.0) - 9) / 3, 0.0, 1.0))
    steady *= 1 - float(np.clip((v.get("overshoot_ratio", 0.0) - 0.2) / 0.1, 0.0, 1.0))
    return (_over(-_log2(v["integral_ratio"]), -0.3, 0.5) * steady * _within_limits(v),)


def _idle_low(v: Values) -> tuple[float, ...] | None:
    if "idle_lag_ratio" not in v:
        return None
    return (_over(_log2(v["idle_lag_ratio"]), 0.5, 0.25) * _within_limits(v),)


def _within_limits(v: Values) -> float:
    """0 where the motors were at their limits for most of the flight: then neither I nor idle can be judged."""
    return 1 - float(np.clip((v.get("lost_share", 0.0) - 0.5) / 0.25, 0.0, 1.0))


CAUSES: tuple[Cause, ...] = (
    Cause(
        code="loose_mount",
        kind=MECHANICAL,
        name="loose mount",
        evidence=_hump,
        n_evidence=2,
        look_alikes=(
            ("a cracked arm", "press and twist every arm by hand; tap it and listen"),
            ("P too high", "fly with P a fifth lower: a loose mount keeps its hump"),
        ),
        proof="Press and tighten every part between frame and controller, then fly the same card again.",
    ),
    Cause(
        code="frame_resonance",
        kind=MECHANICAL,
        name="frame resonance",
        evidence=_resonance,
        n_evidence=2,
        look_alikes=(("a motor's line that hardly moves", "fly the throttle ramp: a resonance stays at its frequency"),),
        proof="Fly the throttle ramp from a tenth to nine tenths: a resonance stays, motors move. Then stiffen that part.",
    ),
    Cause(
        code="propeller",
        kind=MECHANICAL,
        name="propeller",
        evidence=_propeller,
        n_evidence=2,
        look_alikes=(
            ("a bent bell or shaft", "swap two propellers: does the line follow the propeller or stay with the motor?"),
        ),
        proof="Swap this propeller with its neighbour's and fly again: a line that moves with it is the propeller.",
    ),
    Cause(
        code="bearing",
        kind=MECHANICAL,
        name="bearing",
        evidence=_bearing,
        n_evidence=2,
        look_alikes=(("the speed controller", "spin each motor alone, propellers off, and listen"),),
        proof="Propellers off, spin each motor alone and by hand: the rough one needs a bearing or a new motor.",
    ),
    Cause(
        code="electrical_spikes",
        kind=ELECTRICAL,
        name="electrical spikes",
        evidence=_spikes,
        n_evidence=2,
        look_alikes=(
            ("a loose plug", "wiggle the plugs on the bench while recording"),
            ("a failing gyro", "swap the board: do the spikes stay away? Check every axis again, they may move"),
        ),
        proof="Add a capacitor at the battery leads or swap the board, fly the same card, and check every axis again.",
    ),
    Cause(
        code="noisy_axis",
        kind=ELECTRICAL,
        name="one noisy gyro axis",
        evidence=_noisy_axis,
        n_evidence=1,
        look_alikes=(
            (
                "a source of vibration on that axis",
                "record ten seconds on the ground, motors off: noise stays if the chip is to blame",
            ),
        ),
        proof="Record ten seconds at rest, motors off: if this axis still stands out, the chip is noisy; replace the board.",
    ),
    Cause(
        code="d_noise",
        kind=TUNE,
        name="D noise",
        evidence=_d_noise,
        n_evidence=3,
        look_alikes=(("a noisy gyro", "halve D for one flight: does the gyro's own noise stay?"),),
        proof="Lower the D filter or halve D for one short flight: motors must be cooler and the outputs smoother.",
    ),
    Cause(
        code="p_high",
        kind=TUNE,
        name="P too high",
        evidence=_p_high,
        n_evidence=2,
        look_alikes=(
            ("filters too low", "compare raw and filtered gyro: more than 3 ms between them points at the filters"),
            ("heavier propellers", "change one thing at a time"),
        ),
        proof="Lower P by a fifth and fly the same card: the swing must fade.",
    ),
    Cause(
        code="i_low",
        kind=TUNE,
        name="I too low",
        evidence=_i_low,
        n_evidence=1,
        look_alikes=(("I at its limit", "log the I term; hover, then more throttle: a limit shows as a flat top"),),
        proof="Raise I by half and fly hover and punches: the nose must stay where it was put.",
    ),
    Cause(
        code="filters_low",
        kind=TUNE,
        name="filters too low",
        evidence=_filters_low,
        n_evidence=2,
        look_alikes=(("P too high", "open the filters first; if the swing stays, lower P"),),
        proof="Raise the lowest gyro filter by half: delay falls at once; see that motors stay cool.",
    ),
    Cause(
        code="idle_low",
        kind=TUNE,
        name="idle too low",
        evidence=_idle_low,
        n_evidence=1,
        look_alikes=(
            ("a tired pack", "fly the floats again with a fresh pack"),
            ("a slow speed controller", "spin each motor up alone, propellers off, and listen for one that starts late"),
        ),
        proof="Three floats in calm air; then raise the idle by a fifth and fly three more: power must return evenly.",
    ),
)
BY_CODE = {cause.code: cause for cause in CAUSES}
