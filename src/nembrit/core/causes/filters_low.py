"""Filters too low: their delay costs more than the noise they save."""

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Shown, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.filters.stated import stated_delay_s
from nembrit.core.records.needs import Need
from nembrit.core.response.loop import chain_delay_s
from nembrit.core.types import AXES

_LAG_DEG = 14.0  # at the crossover: usual chains cost 5 to 12° (our own trials)


def _measure(sight: Sight) -> Measured:
    delays = {axis: delay for axis in AXES[:2] if (delay := chain_delay_s(sight.recording, axis)) is not None}
    if not delays and sight.controller is not None:  # what the settings say of them
        delays = dict.fromkeys(AXES[:2], stated_delay_s(sight.controller.gyro, sight.controller.loop_rate_hz))
    if not delays:
        return Measured(untested="needs the raw and the filtered gyro: switch both on, or save the filters’ settings")
    values = {"chain_delay_ms": 1000 * max(delays.values())}
    loops = {axis: own.loop for axis, own in sight.loops.items() if axis in delays and own.loop is not None}
    lags = [360 * loop.crossover_hz * delays[axis] for axis, loop in loops.items() if loop.crossover_hz is not None]
    if lags:
        values["chain_lag_deg"] = max(lags)
    return Measured(values=values)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "chain_delay_ms" not in v:
        return None
    late = over(v["chain_delay_ms"], 3.2, 0.35)
    # a late loop oscillates; a long but harmless chain on a slow craft does not
    swings = over(v["oscillation_db"], 3.5, 1.0) if "oscillation_db" in v else 0.0
    # what the chain costs where the loop crosses over, of a loop with little margin
    costs = over(v["chain_lag_deg"], _LAG_DEG, 4.0) if "chain_lag_deg" in v else 0.0
    if "sensitivity_peak_low" in v:
        costs = min(costs, over(v["sensitivity_peak_low"], 1.4, 0.2))
    return (late, min(late, swings), costs)


def _words(v: Values, seen: None) -> Words:
    return Words(
        highlight=f"The filters delay the gyro by {v['chain_delay_ms']:.1f} ms",
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
    n_evidence=3,
    words=_words,
    look_alikes=(("P too high", "raise the filter cutoffs first; if it still oscillates, lower P"),),
    shows=(
        Shown(name="chain_delay_ms", label="delay of the gyro filters", unit="ms"),
        Shown(name="chain_lag_deg", label="phase lag at the crossover", unit="°"),
    ),
    proof="Raise the gyro filter cutoffs: the delay must fall, and the motors must stay cool.",
)
