"""Electrical spikes: the raw gyro leaves and returns within a sample or two just when motors jump."""

from collections.abc import Mapping

import numpy as np

from nembrit.core.causes.cause import ELECTRICAL, LEAST_S, Cause, Measured, Repair, Shown, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.noise.spikes import Spikes
from nembrit.core.records.needs import Need

_SURE_P = 0.01


def _measure(sight: Sight) -> Measured:
    if not sight.spikes:
        return Measured(seen={}, untested="needs the raw gyro: log it")
    worst = max(sight.spikes.values(), key=lambda found: len(found.times_s))
    untested = ""
    if worst.times_s and worst.coincident_ratio is None:
        untested = "there are spikes, but no motor commands in the log to compare them with"
    told = worst.coincident_ratio is not None and worst.p_value is not None and worst.p_value < _SURE_P
    coincident = float(len(worst.times_s) * (worst.coincident_ratio or 0.0)) if told else 0.0
    return Measured(
        values={"spike_count": float(len(worst.times_s)), "spike_coincident": coincident}, seen=sight.spikes, untested=untested
    )


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "spike_coincident" not in v:
        return None
    return (
        over(float(np.log1p(max(v["spike_coincident"], 0.0))), 0.5, 0.5),
        over(float(np.log1p(max(v["spike_count"], 0.0))), 1.5, 1.0),
    )


def _words(v: Values, seen: Mapping[str, Spikes]) -> Words:
    axis, spikes = max(seen.items(), key=lambda pair: len(pair[1].times_s))
    share = spikes.coincident_ratio or 0.0
    return Words(
        axis=axis,
        highlight=f"{len(spikes.times_s)} spikes on {axis}, {share:.0%} of them just as a motor speed jumps",
        conclusion=f" (by chance: {spikes.chance_ratio or 0.0:.0%}): electrical, not mechanical.",
        evidence={"count": float(len(spikes.times_s)), "coincident_ratio": share},
    )


CAUSE = Cause(
    code="electrical_spikes",
    kind=ELECTRICAL,
    name="electrical spikes",
    needs=Need(rate_hz=800, seconds=LEAST_S, all_of=("gyro_raw.",)),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(
        ("a loose plug", "wiggle the plugs on the bench while recording"),
        ("a failing gyro", "swap the board: are the spikes gone? Check every axis, because they may move"),
    ),
    shows=(
        Shown(name="spike_count", label="spikes", unit="in this flight"),
        Shown(name="spike_coincident", label="of them with a motor jump", unit="in this flight"),
    ),
    proof="Add a capacitor at the battery leads or swap the board, fly the same card, and check every axis again.",
    repair=Repair(
        part="capacitor or board",
        title="Added a capacitor or swapped the board",
        button="Record the wiring repair",
        metric="jitter_noise.{axis}",
    ),
    is_about_motors=True,
)
