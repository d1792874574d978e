"""Filters too low: their delay costs more than the noise they save."""

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.response.loop import chain_delay_s
from nembrit.core.types import AXES


def _measure(sight: Sight) -> Measured:
    delays = [delay for axis in AXES[:2] if (delay := chain_delay_s(sight.recording, axis)) is not None]
    if not delays:
        return Measured(untested="needs the raw and the filtered gyro: switch both on")
    return Measured(values={"chain_delay_ms": 1000 * max(delays)})


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "chain_delay_ms" not in v:
        return None
    late = over(v["chain_delay_ms"], 3.2, 0.35)
    # a late loop rings; a long but harmless chain on a slow craft does not
    return (late, min(late, over(v.get("oscillation_db", 0.0), 3.5, 1.0)))


def _words(v: Values, seen: None) -> Words:
    return Words(
        highlight=f"The filters hold the gyro back by {v['chain_delay_ms']:.1f} ms",
        conclusion=": that delay costs more than the noise it saves.",
        evidence={"delay_ms": v["chain_delay_ms"]},
    )


CAUSE = Cause(
    code="filters_low",
    kind=TUNE,
    name="filters too low",
    needs=Need(rate_hz=250, seconds=LEAST_S, all_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(("P too high", "open the filters first; if the swing stays, lower P"),),
    proof="Raise the lowest gyro filter by half: delay falls at once; see that motors stay cool.",
)
