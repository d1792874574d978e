"""What planes need of their slips: trims filled in, loosening held back, gains led back, trims checked by the next flight."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import number
from nembrit.core.tuning.translate import like
from nembrit.core.wing.cure import (
    LEAST_MOVE_US,
    TrimCheck,
    loosened,
    new_centres,
    surely_held,
    trim_check,
    yaw_step,
    yaw_trim_of,
)
from nembrit.core.wing.gainruns import GainRuns, gain_runs, is_saved, less_p
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.words import signed
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import centres_of, core_settings, name_map, saved_forward, surfaces_of
from nembrit.web.tunes.models import Slip

_RECENT = 8
_YAW_FIRST = "yaw first: a part of the roll that is held is held against the sideslip, and goes with it"


@dataclass(frozen=True, slots=True, kw_only=True)
class Filled:
    """What the form of a slip starts with."""

    flight: Flight
    values: dict[str, str]
    text: dict[str, Any]
    notes: tuple[str, ...]


def recent(craft: Craft, configuration: Configuration | None, *, most: int = _RECENT) -> list[tuple[Flight, Wing]]:
    """The newest flights with these settings (None: with any) that a plane's questions were asked of, newest first."""
    rows = craft.flights.active() if configuration is None else craft.flights.active().filter(configuration=configuration)
    flights = list(rows.select_related("configuration")[:most])
    return [(flight, own.wing) for flight, own in by_flight(flights, "wing") if own is not None and own.wing is not None]


def trims(craft: Craft, latest: Configuration) -> Filled | None:
    """New servo centres from the newest flights with these settings: what is held, and a step of yaw against a pull.

    Raises InputError where something has to move and no setting is known as a centre.
    """
    flown = _with_these_centres(craft, latest)
    held = next(((flight, wing.trim) for flight, wing in flown if wing.trim is not None), None)
    pulled = next(((flight, wing) for flight, wing in flown if wing.weaving is not None), None)
    by_speed = next((wing.told_by_speed for _, wing in flown if wing.told_by_speed != "cannot tell"), "cannot tell")
    if held is None and pulled is None:
        return None
    step, notes = None, []
    if pulled is not None and pulled[1].weaving is not None and pulled[1].weaving.side is not None:
        if by_speed == "trim":
            step = yaw_step(_history(craft))
            notes += [_YAW_FIRST] if held else []
            notes += ["a first step of yaw: how much it does is known after it"] if step and step.is_first else []
        elif by_speed == "horizon":
            notes.append("the pull falls with speed: a tilted horizon, no trim. Level the controller on the bench instead")
        else:
            notes.append("one speed cannot tell a yaw trim from a tilted horizon: fly the card “Two speeds” before yaw is moved")
    surfaces = surfaces_of(craft, latest)
    sure = surely_held(held[1]) if held is not None else {}
    if pulled is not None and pulled[1].weaving is not None and pulled[1].weaving.side is not None:
        # roll that is held while something pulls is mostly held against the sideslip
        sure = {} if step else {axis: value for axis, value in sure.items() if axis == "pitch"}
    directions = {int(servo): own.direction for servo, own in held[1].servos.items()} if held is not None else {}
    unknown = [one.servo for one in surfaces if one.direction is None and directions.get(one.servo) is None]
    if unknown and (sure or step):
        told = ", ".join(map(str, unknown))
        notes.append(f"servo {told} stays: which way it counts is not known; say it on the page “What moves what”")
    moved = new_centres(surfaces, sure, step.step_us if step else 0.0, directions=directions)
    names = centres_of(latest)
    values = {names[servo][0]: f"{value:.0f}" for servo, value in moved.items() if servo in names}
    if moved and not values:
        told = ", ".join(f"servo {servo} → {value:.0f} µs" for servo, value in moved.items())
        raise InputError(f"{told}; but no setting is known as a servo centre: say it on the page “What the names mean”")
    flight = held[0] if held else (pulled[0] if pulled else flown[0][0])
    if not values:
        return Filled(flight=flight, values={}, text={}, notes=tuple(notes))
    notes.insert(0, "set the radio’s own trims back to zero when the centres are moved")
    return Filled(
        flight=flight,
        values=values,
        text=_trim_text(values, None if step else held, pulled if step else None),
        notes=tuple(notes),
    )


def _with_these_centres(craft: Craft, latest: Configuration) -> list[tuple[Flight, Wing]]:
    """The newest flights whose servos were centred as they are now, whatever else was changed since."""
    centres = centres_of(latest)
    found = recent(craft, None, most=2 * _RECENT)
    return [(flight, wing) for flight, wing in found if flight.configuration and centres_of(flight.configuration) == centres]


def _trim_text(values: Mapping[str, str], held: tuple[Flight, Trim] | None, pulled: tuple[Flight, Wing] | None) -> dict[str, Any]:
    weaving = pulled[1].weaving if pulled else None
    is_pulled = weaving is not None and weaving.side is not None
    why = []
    if is_pulled and pulled is not None and weaving is not None:
        why.append(f"Pulled to the {weaving.side} by {abs(weaving.creep_deg_s):.1f} deg/s in flight {pulled[0].number}.")
    axis = None
    if held is not None and held[1].axes:
        axis, own = max(held[1].axes.items(), key=lambda pair: abs(pair[1].trim_us))
        if abs(own.trim_us) >= LEAST_MOVE_US:
            why.append(f"{axis.capitalize()} is held by {signed(own.trim_us)} µs hands off in flight {held[0].number}.")
    return {
        "title": ", ".join(f"{name} → {value}" for name, value in values.items())[:120], "why": " ".join(why),
        "expect": "Hands off it flies straight, and nothing lurches at the switch to manual.",
        "risk": "Switch to manual high up, hands ready; back at once if it lurches.",
        "primary_metric": "pull" if is_pulled else f"held_trim.{axis or 'roll'}", "direction": "lower",
        "card_key": "wing_tracks" if is_pulled else "wing_trim",
    }  # fmt: skip


def _history(craft: Craft) -> list[tuple[float, float]]:
    """Yaw trim and pull of the flights with straight legs, oldest first."""
    found = []
    for flight, wing in recent(craft, None, most=30):
        trim = yaw_trim_of(surfaces_of(craft, flight.configuration)) if flight.configuration else None
        if trim is not None and wing.weaving is not None:
            found.append((trim, wing.weaving.creep_deg_s))
    return found[::-1]


# --- the navigation waits for the trim, and comes back after it


def pull_stands(craft: Craft) -> tuple[Flight, str] | None:
    """The newest flight with straight legs, and the side that it is pulled to, if it is."""
    for flight, wing in recent(craft, None):
        if wing.weaving is not None:
            return (flight, wing.weaving.side) if wing.weaving.side else None
    return None


def _navigation(configuration: Configuration) -> dict[str, float]:
    names = name_map(configuration.craft)
    shown = {
        one.name: number(one.value)
        for one in core_settings(configuration)
        if (meaning := names.get(one.name)) and meaning.key.startswith("gain.navigation.")
    }
    return {name: value for name, value in shown.items() if value is not None}


def require_trim_first(base: Configuration, values: Mapping[str, str], despite: str) -> None:
    """Refuse to loosen the navigation while a pull to one side stands, unless a reason is given. Raises InputError."""
    now = _navigation(base)
    lowered = [name for name, value in values.items() if name in now and (to := number(value)) is not None and to < now[name]]
    stands = pull_stands(base.craft) if lowered else None
    if stands is not None and not despite.strip():
        raise InputError(
            f"trim first: flight {stands[0].number} is pulled to the {stands[1]}. Loosening “{lowered[0]}” would only mask that. "
            "Move the trim first, or say why you loosen it all the same"
        )


def led_back(craft: Craft, latest: Configuration) -> dict[str, str]:
    """Navigation gains to lead back to where they once were, now that nothing pulls; nothing while something does."""
    if pull_stands(craft) is not None:
        return {}
    before = [_navigation(one) for one in craft.configurations.exclude(pk=latest.pk)]
    return {name: f"{value:g}" for name, value in loosened(_navigation(latest), before).items()}


def navigation(craft: Craft, latest: Configuration) -> Filled | None:
    """A slip that leads loosened gains back, as far as anything was loosened."""
    flown = recent(craft, latest)
    values = led_back(craft, latest) if flown else {}
    if not values:
        return None
    told = ", ".join(f"{name} back to {value}" for name, value in values.items())
    text = {
        "title": told[:120], "why": f"It was loosened while the plane was pulled; flight {flown[0][0].number} is not.",
        "expect": "It keeps its line more closely and does not swing.", "risk": "It swings from side to side: take over, undo.",
        "primary_metric": "off_line", "direction": "lower", "card_key": "wing_tracks", "limit_metric_1": "sway",
        "limit_most_1": "50",
    }  # fmt: skip
    return Filled(flight=flown[0][0], values=values, text=text, notes=())


def gains(craft: Craft, latest: Configuration, group: str) -> Filled | None:
    """What automatic gains found, as settings; once they are saved a little less P of an axis. Nothing before they settled."""
    flown = recent(craft, None, most=12)
    names, present = name_map(craft), {one.name: one.value for one in core_settings(latest)}
    meant = {meaning.key: name for name, meaning in names.items() if name in present}
    found = {axis: runs for axis in ("roll", "pitch") if (runs := _runs(flown, axis)) is not None and runs.agrees}
    saved = saved_forward(craft)
    newest = next((flight for flight, wing in flown if wing.gain_flight), None)
    if newest is None:
        return None
    values, why = {}, []
    if group == "feed_forward":
        for axis, runs in found.items():
            name = meant.get(f"gain.rate.{axis}.f", "")
            if name and not is_saved(runs.middle, saved.get(axis, 0.0)):
                values[name] = like(present[name], runs.middle)
                why.append(f"{axis}: {runs.in_words}")
    else:
        axis = group.partition(".")[2]
        name = meant.get(f"gain.rate.{axis}.p", "")
        is_kept = axis in found and axis in saved and is_saved(found[axis].middle, saved[axis])
        if name and is_kept and (p := number(present[name])):
            values[name] = like(present[name], less_p(p))
            why.append(f"the automatic gains of {axis} are saved; many lower P a little then (common practice)")
    if not values:
        return None
    text = {
        "title": ", ".join(f"{name} {present[name]} → {value}" for name, value in values.items())[:120],
        "why": f"Flight {newest.number}: {'; '.join(why)}.", "expect": "It follows as quickly and swings less.",
    }  # fmt: skip
    return Filled(flight=newest, values=values, text=text, notes=())


def _runs(flown: list[tuple[Flight, Wing]], axis: str) -> GainRuns | None:
    return gain_runs([wing.gain_flight[axis] for _, wing in reversed(flown) if axis in wing.gain_flight])


# --- the check of a trim


def check_of(slip: Slip) -> list[tuple[Flight, TrimCheck]]:
    """What each flight after a trim slip shows, oldest first."""
    if slip.group != "trim" or slip.result_configuration is None:
        return []
    flown = recent(slip.tune.craft, slip.result_configuration)
    craft = slip.tune.craft
    base, result = slip.base_configuration, slip.result_configuration
    yaws = [yaw_trim_of(surfaces_of(craft, one)) for one in (base, result)]
    moved_yaw = None not in yaws and abs((yaws[1] or 0.0) - (yaws[0] or 0.0)) >= LEAST_MOVE_US
    found = [(flight, trim_check(wing.trim, wing.lurches, wing.weaving, moved_yaw=moved_yaw)) for flight, wing in flown]
    return [(flight, check) for flight, check in found if check.told][::-1]
