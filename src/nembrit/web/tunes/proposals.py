"""A slip filled in: from what a bench tried, from what a finding asks for, or with what is advised."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from django.http import QueryDict

from nembrit.core.analysis.decision import COMFORT, HEAT, MARGIN, Decision
from nembrit.core.errors import CoreError, InputError
from nembrit.core.setup.configuration import Setting, apply_changes
from nembrit.core.setup.namemap import NameMap
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.core.tuning.best import limits_for
from nembrit.core.tuning.design import best_chain, lag_of, target_for
from nembrit.core.tuning.translate import Written, chain_values, gain_values
from nembrit.core.types import AXES
from nembrit.web.bench import chainform, choosing, deciding, gains
from nembrit.web.bench.records import widened_of
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, name_map
from nembrit.web.tunes import wingcare
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.predictions import bench_for, gate_of, predict
from nembrit.web.tunes.steps import in_settings

_FILTERS = ("gyro_filters", "d_filters")
_TERMS = {"i": "i", "feed_forward": "f"}
# here the schools differ: log first moves P and D by a common factor
_ONE_AT_A_TIME = "your route “step up by feel” raises one value per flight: reset the others to follow it"
_LEFT_OPEN = "no change of {axis}: {number} is too uncertain. Fly the half-minute card again with quicker {axis} inputs"
_NO_ROOM = "the stability margin does not allow slower filters: lower P first, then return to the filters"
_NEARLY_DEG = 0.01
_MOST_EXPECT, _HARDLY = 300, 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """What the form of a new slip starts with."""

    flight: Flight
    values: dict[str, str]  # new values by setting's name
    text: dict[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


def proposal(craft: Craft, latest: Configuration | None, group: str, given: QueryDict) -> Proposal | None:
    """What fills a new slip in: what a bench tried, what a finding asks for, or what is advised for the group.

    The address names the flight; without one it is the newest that was flown with the latest settings. None where there is
    nothing to go by. Raises InputError for an address that cannot be followed.
    """
    if latest is None or group in ("", "hardware"):
        return None
    if group in ("trim", "navigation") and craft.kind == Craft.Kind.FIXED_WING:
        return _cared((wingcare.trims if group == "trim" else wingcare.navigation)(craft, latest))
    if craft.kind == Craft.Kind.FIXED_WING:
        return _cared(wingcare.gains(craft, latest, group))
    return _by_bench(craft, latest, group, given)


def _cared(cared: wingcare.Filled | None) -> Proposal | None:
    return None if cared is None else Proposal(flight=cared.flight, values=cared.values, text=cared.text, notes=cared.notes)


def _by_bench(craft: Craft, latest: Configuration, group: str, given: QueryDict) -> Proposal | None:
    """What a multirotor's benches tried or advise."""
    text = given.get("flight", "")
    if not text:
        found = bench_for(craft, latest)
        return None if found is None else _filled(craft, latest, group, *found, given)
    flight = (
        craft.flights.active().filter(number=int(text)).select_related("craft", "configuration").first()
        if _is_number(text)
        else None
    )
    if flight is None:
        raise InputError(f"there is no flight {text[:20]} to fill in this slip")
    ((_, results),) = by_flight([flight], *choosing.NEEDED)
    if results is None:
        raise InputError(f"flight {flight.number} is being analysed: open this page again in a moment")
    bench = choosing.choosing_of(flight, results, widened=widened_of(craft))
    try:
        if "step" in given:
            return _of_step(craft, latest, group, flight, given)
        return _filled(craft, latest, group, flight, bench, given)
    except CoreError as error:
        raise InputError(str(error)) from None


def _is_number(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) < 10


def _filled(
    craft: Craft, latest: Configuration, group: str, flight: Flight, bench: choosing.Choosing, given: QueryDict
) -> Proposal | None:
    settings, names = core_settings(latest), name_map(craft)
    present = {one.name: one.value for one in settings}
    notes: tuple[str, ...] = ()
    if group in _FILTERS and "tried" in given:
        values, notes = _written(chain_values(settings, names, chainform.chains_from(given, bench.known)), settings, names, group)
        why = f"Calculated from the noise of flight {flight.number}."
    elif any(term in given for term in gains.TERMS):
        values, why = _gain_values(flight, bench, given), f"Calculated from flight {flight.number}."
    else:
        values, notes, reason = _advised(craft, bench, settings, names, group)
        why = f"Proposed from flight {flight.number}{reason}."
    values = {name: value for name, value in values.items() if name in present and present[name] != value}
    if values and (stands := gate_of(craft, settings, apply_changes(settings, values)).forbidden):
        values, notes = {}, (*notes, f"not proposed: {'; '.join(stands)}")
    if not values and not notes and "flight" not in given:
        return None
    if len(values) > 1 and group.startswith("pd.") and _route(craft) == Tune.Route.STEP_UP:
        notes += (_ONE_AT_A_TIME,)
    return Proposal(flight=flight, values=values, text=_text(craft, latest, why, group, values, present), notes=notes)


def _of_step(craft: Craft, latest: Configuration, group: str, flight: Flight, given: QueryDict) -> Proposal:
    """Exactly the change that the flight's one decision asks for, or one of those that it names beside it."""
    if flight.configuration is not None and core_settings(flight.configuration) != core_settings(latest):
        raise InputError(f"flight {flight.number} flew older settings: its proposal does not apply to the current ones")
    ((_, results),) = by_flight([flight], *deciding.NEEDED)
    decision = deciding.decision_of(flight, results) if results else None
    steps = (decision, *decision.alternatives) if decision else ()
    asked = given.get("step", "")
    place = int(asked) if _is_number(asked) else 0
    step = next((one for one in steps[place : place + 1] if one.group == group), None)
    if step is None:
        raise InputError(f"flight {flight.number} now proposes another step: open its page")
    found = in_settings(craft, latest, step)
    present = {one.name: one.value for one in core_settings(latest)}
    text = _text(craft, latest, f"Flight {flight.number}: {step.why}", group, found.values, present) | _judged_by(step)
    return Proposal(flight=flight, values=found.values, text=text, notes=found.notes)


def _judged_by(step: Decision) -> dict[str, str]:
    """The number that a step is taken for: what it wins, not what it costs."""
    axis = step.axis or next(iter(step.ratios), "roll")
    metric = {MARGIN: f"overshoot.{axis}", HEAT: "motor_roughness", COMFORT: f"step_delay.{axis}"}.get(step.rank or "")
    return {"primary_metric": metric, "direction": "lower"} if metric and step.group != "i" else {}


def _route(craft: Craft) -> str:
    tune = craft.tunes.first()
    return tune.route if tune else ""


def _written(written: Written, settings: Sequence[Setting], names: NameMap, group: str) -> tuple[dict[str, str], tuple[str, ...]]:
    notes = tuple(f"your settings have no “{one}”: this slip leaves it out" for one in written.missing)
    return written.of_group(settings, names, group), notes


def _advised(
    craft: Craft, bench: choosing.Choosing, settings: Sequence[Setting], names: NameMap, group: str
) -> tuple[dict[str, str], tuple[str, ...], str]:
    """The best chain or pair of gains for one group, all others as they are, with notes and what speaks for it.

    Nothing for groups without a bench.
    """
    if group in _FILTERS:
        pins = frozenset({"d_term"} if group == "gyro_filters" else {"gyro", "notches"})
        task, target = bench.task(pins), target_for("usual", craft.propeller_diameter_in)
        design = best_chain(task, target)
        if design.lag_deg > task.most_lag_deg + _NEARLY_DEG:
            return {}, (_NO_ROOM,), ""
        values, notes = _written(chain_values(settings, names, design.chains), settings, names, group)
        saved = lag_of(task, task.flown) - design.lag_deg
        reason = f": {abs(saved):.2g}° {'less' if saved > 0 else 'more'} lag, {100 * design.motor_rms:.2g} % motor noise"
        return values, notes, f"{reason}, {100 * target:.2g} % is the target"
    axis = group.partition(".")[2]
    if group.startswith("pd.") and bench.loop is not None and axis in bench.loop.axes:
        best = bench.best(axis, limits_for("usual", gains.motor_room(bench, craft, "usual")))
        if best.left_open:
            return {}, (_LEFT_OPEN.format(axis=axis, number=best.left_open),), ""
        ratios = {axis: {"p": best.p, "d": best.d}} if best.is_change else {}
        reason = f": {best.breaks} is over its limit now" if best.breaks else f": {best.bound_by} prevents more"
        return gain_values(settings, names, ratios).of_group(settings, names, group), (), reason
    if group in _TERMS:
        return _advised_term(craft, bench, settings, names, group)
    return {}, (), ""


def _advised_term(
    craft: Craft, bench: choosing.Choosing, settings: Sequence[Setting], names: NameMap, group: str
) -> tuple[dict[str, str], tuple[str, ...], str]:
    """I or feed-forward of roll and pitch, each the best within its limits."""
    term, limits = _TERMS[group], limits_for("usual", gains.motor_room(bench, craft, "usual"))
    told = {axis: found for axis in AXES[:2] if (found := bench.best_term(axis, term, limits)) is not None}
    notes = tuple(_LEFT_OPEN.format(axis=axis, number=found.left_open) for axis, found in told.items() if found.left_open)
    ratios = {axis: {term: found.ratio} for axis, found in told.items() if found.is_change}
    reasons = "; ".join(f"{axis}: {found.bound_by} prevents more" for axis, found in told.items() if not found.left_open)
    return gain_values(settings, names, ratios).of_group(settings, names, group), notes, f": {reasons}" if reasons else ""


def _gain_values(flight: Flight, bench: choosing.Choosing, given: QueryDict) -> dict[str, str]:
    axis = given.get("axis", "")
    if axis not in AXES:
        return {}
    fields = gains.fields_of(flight, bench, axis, given)
    return {one.name: one.shown for one in fields if one.name}


def _text(
    craft: Craft, latest: Configuration, why: str, group: str, values: dict[str, str], present: dict[str, str]
) -> dict[str, Any]:
    if not values:
        return {}
    title = ", ".join(f"{name} {present[name]} → {value}" for name, value in values.items())
    told = predict(craft, latest, apply_changes(core_settings(latest), values))
    found: dict[str, Any] = {"title": title if len(title) <= 120 else title[:117] + "…"}
    found["why"] = why
    if metrics := told.get("metrics", {}):
        found["expect"] = _expected(metrics)
    if told and not told["stable"]:
        found["risk"] = "Predicted to oscillate: do not fly this."
    moved = _most_moved(told.get("metrics", {}))
    if moved and group in _FILTERS:
        found |= {"primary_metric": moved[0], "direction": moved[1]}
    return found


def _expected(metrics: dict[str, list[float]]) -> str:
    """As many whole numbers as the field holds, those first that should move most for their interval."""

    def moved(name: str) -> float:
        flown, told, low, high = metrics[name]
        return abs(told - flown) / max(high - low, 1e-12)

    words = ""
    for name in sorted(metrics, key=moved, reverse=True):
        more = f"{words}; {_expect(name, metrics[name])}" if words else _expect(name, metrics[name])
        if len(more) > _MOST_EXPECT or (words and moved(name) < _HARDLY):
            break
        words = more
    return words


def _expect(name: str, numbers: list[float]) -> str:
    kind = metric_kind(name)
    factor, unit = (kind.factor, kind.unit) if kind else (1.0, "")
    flown, told, low, high = (one * factor for one in numbers)
    return f"{metric_label(name)} {flown:.3g} → {told:.3g} {unit} ({low:.3g} to {high:.3g})"


def _most_moved(metrics: dict[str, list[float]]) -> tuple[str, str] | None:
    """Of delay and motor noise, which filters trade, the one that should fall most for its interval; None where none falls.

    Yaw judges only where nothing else falls: cards ask little of it.
    """
    falls = {
        name: (flown - told) / max(high - low, 1e-12)
        for name, (flown, told, low, high) in metrics.items()
        if told < flown and name.startswith(("step_delay", "motor_roughness"))
    }
    best = max(falls, key=lambda name: (not name.endswith(".yaw"), falls[name]), default=None)
    return None if best is None else (best, "lower")
