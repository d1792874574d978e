"""What a change of settings is predicted to do, kept on its slip, and how the flights met it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.choosing import Choosing, axes_told
from nembrit.core.errors import CoreError, InputError
from nembrit.core.response.estimate import Estimate
from nembrit.core.setup.configuration import Setting, apply_changes, number
from nembrit.core.setup.controller import Controller, chains_from_settings
from nembrit.core.setup.namemap import NameMap
from nembrit.core.trials.met import Met, met
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.core.tuning.design import target_for
from nembrit.core.tuning.gate import Ruling
from nembrit.core.tuning.whatif import Change, Predicted
from nembrit.core.types import AXES
from nembrit.web.bench.choosing import NEEDED, choosing_of, is_sure
from nembrit.web.bench.records import tell_errors, widened_of
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, name_map
from nembrit.web.tunes.models import Slip

_LATEST = 20


def bench_for(craft: Craft, configuration: Configuration | None) -> tuple[Flight, Choosing] | None:
    """The newest analysed flight that was flown with these settings, to try others on; None without one.

    One that tells roll and pitch surely goes before newer ones that leave them open: a ramp for noise asks little of them.
    """
    if configuration is None:
        return None
    wanted = core_settings(configuration)
    flights = craft.flights.active().filter(configuration__isnull=False).select_related("craft", "configuration")[:_LATEST]
    alike = [flight for flight in flights if flight.configuration and core_settings(flight.configuration) == wanted]
    told = [(flight, results) for flight, results in by_flight(alike, *NEEDED) if results and results.loop and results.loop.axes]
    if not told:
        return None
    flight, results = next((one for one in told if is_sure(one[1].loop)), told[0])
    return flight, choosing_of(flight, results, widened=widened_of(craft))


def change_between(before: Sequence[Setting], after: Sequence[Setting], names: NameMap) -> Change:
    """What two lists of settings differ in, as ratios of gains and as chains."""
    old = {one.name: one.value for one in before}
    gains: dict[str, dict[str, float]] = {}
    for one in after:
        meaning = names.get(one.name)
        if meaning is None or not meaning.key.startswith("gain.rate."):
            continue
        _, _, axis, term = meaning.key.split(".")
        was, becomes = number(old.get(one.name, "")), number(one.value)
        if was and becomes is not None and was != becomes:
            gains.setdefault(axis, {})[term] = becomes / was
    chains = chains_from_settings(after, names)
    return Change(gains=gains, chains=chains if _filters(chains) != _filters(chains_from_settings(before, names)) else None)


def _filters(chains: Controller | None) -> tuple[object, ...]:
    """What a change of filters can change; idle, limits and rates of the same settings are none of it."""
    if chains is None:
        return ()
    return (chains.loop_rate_hz, chains.chip, chains.gyro, chains.d_term, chains.feed_forward, chains.setpoint)


def predict(craft: Craft, base: Configuration, after: Sequence[Setting]) -> dict[str, Any]:
    """The prediction of a change, for its slip; empty where no flight with these settings can tell."""
    try:
        found = bench_for(craft, base)
        if found is None:
            return {}
        flight, bench = found
        change = change_between(core_settings(base), after, name_map(craft))
        if not change.gains and change.chains is None:
            return {}
        return {
            "flight": flight.number, "metrics": _metrics(bench, change), "stable": _all_stable(bench, change),
            "steps": {axis: _step(bench.predicted(axis, change)) for axis in axes_told(bench)},
        }  # fmt: skip
    except CoreError:  # what cannot be told is no hindrance to a slip
        return {}


def gate_of(craft: Craft, base: Sequence[Setting], after: Sequence[Setting]) -> Ruling:
    """What stands against flying these settings, by the newest flight that tells the craft's loops.

    Everything that differs from what that flight flew counts, slips since that were never flown with it: parts that each
    pass may fail together. Nothing stands against them where no flight can tell, or where neither gains nor filters change.
    """
    names = name_map(craft)
    own = change_between(base, after, names)
    if not own.gains and own.chains is None:
        return Ruling()
    flights = craft.flights.active().filter(configuration__isnull=False).select_related("craft", "configuration")[:_LATEST]
    told = [(flight, own) for flight, own in by_flight(list(flights), *NEEDED) if own and own.loop and own.loop.axes]
    if not told or told[0][0].configuration is None:
        return Ruling()
    newest = core_settings(told[0][0].configuration)  # older settings would count changes that were flown since
    alike = [one for one in told if one[0].configuration and core_settings(one[0].configuration) == newest]
    flight, results = next((one for one in alike if is_sure(one[1].loop)), alike[0])
    if flight.configuration is None:
        return Ruling()
    try:
        change = change_between(core_settings(flight.configuration), after, names)
        bench = choosing_of(flight, results, widened=widened_of(craft))
        return bench.ruling(change, target_rms=target_for("usual", craft.propeller_diameter_in))
    except CoreError:  # what cannot be told is no hindrance
        return Ruling()


def ruling_of(craft: Craft, latest: Configuration, typed: Mapping[str, str]) -> Ruling | None:
    """What stands against typed values beside the latest settings; None where nothing is changed."""
    settings = core_settings(latest)
    present = {one.name: one.value for one in settings}
    changed = {name: value for name, value in typed.items() if value and name in present and present[name] != value}
    return gate_of(craft, settings, apply_changes(settings, changed)) if changed else None


def require_gate(craft: Craft, base: Sequence[Setting], after: Sequence[Setting], reason: str) -> None:
    """Raises InputError for settings that must not be flown, and BeyondLimits for those that need a reason and have none."""
    found = gate_of(craft, base, after)
    if found.forbidden:
        raise InputError(f"these settings must not be flown: {'; '.join(found.forbidden)}. Take a smaller step, or lower P first")
    if found.limits and not reason.strip():
        raise BeyondLimits(f"{'; '.join(found.limits)}. Take a smaller step, or give a reason to fly it anyway")


class BeyondLimits(InputError):
    """A change that passes stability but not another limit: it needs a reason."""


def _step(told: Predicted) -> dict[str, list[float]]:
    """The predicted step for the chart of the slip, with the band that its overshoot's interval leaves."""
    if not told.is_stable:
        return {}
    half = told.overshoot_ratio.error if told.overshoot_ratio else 0.0
    every = slice(None, None, 4)
    curve = told.step[every]
    return {
        "t_ms": [round(float(value), 2) for value in 1000 * told.step_t_s[every]],
        "y": [round(float(value), 4) for value in curve],
        "half": [round(float(half * min(1.0, t_s / 0.02)), 4) for t_s in told.step_t_s[every]],
    }


def _all_stable(bench: Choosing, change: Change) -> bool:
    return all(bench.predicted(axis, change).is_stable for axis in axes_told(bench))


def _metrics(bench: Choosing, change: Change) -> dict[str, list[float]]:
    """Metric → flown value, predicted value and its interval, in core units."""
    found: dict[str, list[float]] = {}
    axes = [axis for axis in AXES if axis in axes_told(bench) and (change.chains is not None or axis in change.gains)]
    for axis in axes:
        was, told = bench.predicted(axis, Change()), bench.predicted(axis, change)
        for metric, field in (("overshoot", "overshoot_ratio"), ("step_delay", "step_delay_s")):
            _keep(found, f"{metric}.{axis}", getattr(was, field), getattr(told, field))
    _keep(found, "motor_roughness", bench.motors(Change()), bench.motors(change))
    return found


def _keep(found: dict[str, list[float]], name: str, was: Estimate | None, told: Estimate | None) -> None:
    if was is not None and told is not None:
        found[name] = [was.value, told.value, told.low, told.high]


@dataclass(frozen=True, slots=True, kw_only=True)
class MetRow:
    """One number of a prediction on the page of its slip, in the units that people read."""

    label: str
    unit: str
    before: float  # mean of the flights before; the flown one's own while there is none
    predicted: float
    low: float
    high: float
    after: float | None
    met: Met | None


def rows_of(slip: Slip, means: Mapping[str, tuple[float | None, float | None]]) -> list[MetRow]:
    """Predicted beside measured: `means` are by metric the flights' means before and after, in core units."""
    rows = []
    for name, numbers in slip.prediction.get("metrics", {}).items():
        kind = metric_kind(name)
        if kind is None:
            continue
        before, after = means.get(name, (None, None))
        found = met(numbers, before, after, is_ratio=kind.scale == "log")
        shown = found.predicted if found else tuple(numbers[1:])
        value, low, high = (one * kind.factor for one in shown)
        rows.append(
            MetRow(
                label=metric_label(name), unit=kind.unit,
                before=(numbers[0] if before is None else before) * kind.factor,
                predicted=value, low=low, high=high, after=None if after is None else after * kind.factor, met=found,
            )
        )  # fmt: skip
    return rows


@tell_errors
def errors_of(craft: Craft) -> list[float]:
    """How far flights missed predictions on this craft's decided slips, over half the interval each."""
    found = []
    for slip in (
        Slip.objects.filter(tune__craft=craft).exclude(state=Slip.State.OPEN).exclude(prediction={}).select_related("decision")
    ):
        metrics = getattr(slip, "decision", None) and slip.decision.comparison.get("metrics", ())
        for row in metrics or ():
            kind, numbers = metric_kind(row["name"]), slip.prediction["metrics"].get(row["name"])
            if kind is None or numbers is None or row["before_mean"] is None or row["after_mean"] is None:
                continue
            told = met(numbers, row["before_mean"] / kind.factor, row["after_mean"] / kind.factor, is_ratio=kind.scale == "log")
            if told is not None:
                found.append(told.error)
    return found
