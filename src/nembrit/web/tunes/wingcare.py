"""What planes need of their slips: trims filled in, loosening held back, gains led back, trims checked by the next flight."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import number
from nembrit.core.tuning.translate import like
from nembrit.core.wing.cure import LEAST_MOVE_US, TrimCheck, loosened, trim_check, yaw_trim_of
from nembrit.core.wing.gainruns import GainRuns, gain_runs, is_saved, less_p
from nembrit.core.wing.trimstep import MOVE, TrimStep
from nembrit.web.bench.trims import next_trim, recent
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import centres_of, core_settings, name_map, saved_forward, surfaces_of
from nembrit.web.tunes.models import Slip


@dataclass(frozen=True, slots=True, kw_only=True)
class Filled:
    """What the form of a slip starts with."""

    flight: Flight
    values: dict[str, str]
    text: dict[str, Any]
    notes: tuple[str, ...]


def trims(craft: Craft, latest: Configuration) -> Filled | None:
    """New servo centres from the flights with the present ones, or what has to be flown or levelled before anything is moved.

    Raises InputError where something has to move and no setting is known as a centre.
    """
    step = next_trim(craft)
    flown = recent(craft, None)
    if step is None or not flown:
        return None
    names = centres_of(latest)
    values = {names[move.servo][0]: f"{move.new_us:.0f}" for move in step.moves if move.servo in names}
    if step.moves and not values:
        told = "; ".join(move.in_words for move in step.moves)
        raise InputError(f"{told}. But no setting is named as a servo centre: set it on the page “Setting names”")
    notes = [*(move.in_words for move in step.moves), *step.notes]
    if step.kind != MOVE:
        said = (f"{step.headline}: {step.why[-1]}", step.expect, *notes)
        return Filled(flight=flown[0][0], values={}, text={}, notes=tuple(one.rstrip(".") for one in said if one))
    notes.append("set the radio trims back to zero when you move the centres")
    return Filled(flight=flown[0][0], values=values, text=_trim_text(step), notes=tuple(notes))


def _trim_text(step: TrimStep) -> dict[str, Any]:
    axis = "roll" if "roll" in step.headline else "pitch"
    return {
        "title": step.headline[:120], "why": " ".join(step.why), "expect": step.expect,
        "risk": "Switch to manual high up, hands ready; switch back at once if it lurches.",
        "primary_metric": "pull" if step.is_yaw else f"held_trim.{axis}", "direction": "lower", "card_key": step.card,
    }  # fmt: skip


# --- the navigation waits for the trim, and comes back after it


def pull_stands(craft: Craft) -> tuple[Flight, str] | None:
    """The newest flight that measured a pull, and the side that it is pulled to, if it is."""
    for flight, wing in recent(craft, None):
        if wing.pull is not None:
            return (flight, wing.pull.side) if wing.pull.side else None
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
            "Trim first, or give a reason to loosen it anyway"
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
        "title": told[:120], "why": f"It was lowered while the plane was pulled; flight {flown[0][0].number} is not.",
        "expect": "It holds its line more closely without weaving.", "risk": "If it weaves from side to side, take "
        "over and undo.",
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
        "why": f"Flight {newest.number}: {'; '.join(why)}.", "expect": "It follows as quickly and oscillates less.",
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
    found = [(flight, trim_check(wing.trim, wing.lurches, wing.pull, moved_yaw=moved_yaw)) for flight, wing in flown]
    return [(flight, check) for flight, check in found if check.told][::-1]
