"""A slip filled in from what was tried on a flight's filters or gains."""

from dataclasses import dataclass, field
from typing import Any

from django.http import QueryDict

from nembrit.core.errors import CoreError, InputError
from nembrit.core.setup.configuration import apply_changes
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.core.tuning.translate import chain_values
from nembrit.core.types import AXES
from nembrit.web.bench import chainform, choosing, gains
from nembrit.web.bench.records import widened_of
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, name_map
from nembrit.web.tunes.predictions import predict

_FILTERS = ("gyro_filters", "d_filters")


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """What the form of a new slip starts with."""

    flight: Flight
    values: dict[str, str]  # new values by setting's name
    text: dict[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


def proposal(craft: Craft, latest: Configuration | None, group: str, given: QueryDict) -> Proposal | None:
    """From the address that a bench wrote: the flight, and the chain or gains tried on it. Raises InputError.

    None where the address names no flight.
    """
    text = given.get("flight", "")
    if not text.isdigit() or len(text) > 9 or latest is None:
        return None
    flight = craft.flights.filter(number=int(text)).select_related("craft", "configuration").first()
    if flight is None:
        raise InputError(f"there is no flight {text} to fill this slip in from")
    ((_, results),) = by_flight([flight], *choosing.NEEDED)
    if results is None:
        raise InputError(f"flight {flight.number} is being analysed; open this page again in a moment")
    bench = choosing.choosing_of(flight, results, widened=widened_of(craft))
    try:
        if group in _FILTERS:
            settings, names = core_settings(latest), name_map(craft)
            written = chain_values(settings, names, chainform.chains_from(given, bench.known))
            values = written.of_group(settings, names, group)
            notes = tuple(f"your settings cannot say “{one}”: this slip leaves it out" for one in written.missing)
        else:
            values, notes = _gain_values(flight, bench, given), ()
    except CoreError as error:
        raise InputError(str(error)) from None
    present = {one.name: one.value for one in core_settings(latest)}
    values = {name: value for name, value in values.items() if name in present and present[name] != value}
    return Proposal(flight=flight, values=values, text=_text(craft, latest, flight, group, values, present), notes=notes)


def _gain_values(flight: Flight, bench: choosing.Choosing, given: QueryDict) -> dict[str, str]:
    axis = given.get("axis", "")
    if axis not in AXES:
        return {}
    fields = gains.fields_of(flight, bench, axis, given)
    return {one.name: one.shown for one in fields if one.name}


def _text(
    craft: Craft, latest: Configuration, flight: Flight, group: str, values: dict[str, str], present: dict[str, str]
) -> dict[str, Any]:
    if not values:
        return {}
    title = ", ".join(f"{name} {present[name]} → {value}" for name, value in values.items())
    told = predict(craft, latest, apply_changes(core_settings(latest), values))
    found: dict[str, Any] = {"title": title if len(title) <= 120 else title[:117] + "…"}
    found["why"] = f"Tried on the {'noise' if group in _FILTERS else 'loop'} of flight {flight.number}."
    expects = [_expect(name, numbers) for name, numbers in told.get("metrics", {}).items()]
    if expects:
        found["expect"] = "; ".join(expects)[:300]
    if told and not told["stable"]:
        found["risk"] = "Predicted to swing by itself: do not fly this."
    moved = _most_moved(told.get("metrics", {}))
    if moved and group in _FILTERS:
        found |= {"primary_metric": moved[0], "direction": moved[1]}
    return found


def _expect(name: str, numbers: list[float]) -> str:
    kind = metric_kind(name)
    factor, unit = (kind.factor, kind.unit) if kind else (1.0, "")
    flown, told, low, high = (one * factor for one in numbers)
    return f"{metric_label(name)} {flown:.3g} → {told:.3g} {unit} ({low:.3g} to {high:.3g})"


def _most_moved(metrics: dict[str, list[float]]) -> tuple[str, str] | None:
    """The metric that should move most for its interval, downwards; None where none should fall."""
    falls = {name: (flown - told) / max(high - low, 1e-12) for name, (flown, told, low, high) in metrics.items() if told < flown}
    best = max(falls, key=lambda name: falls[name], default=None)
    return None if best is None else (best, "lower")
