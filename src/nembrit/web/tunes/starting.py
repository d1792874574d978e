"""Starting values: where they can come from, what they would change, and the one slip that sets them."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import CoreError, InputError
from nembrit.core.routes.starting import (
    Body,
    Given,
    Likeness,
    Proposed,
    from_craft,
    from_json,
    from_table,
    likeness,
    thrust_to_weight,
    to_json,
)
from nembrit.web.bench.results import by_flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map
from nembrit.web.tunes import services
from nembrit.web.tunes.models import Slip, Tune

_RECENT = 8
_CARE = "Hover close and low, listen, land, touch the motors with care; then a punch, land and touch again."


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """One place that starting values can come from."""

    key: str  # table, or the row of a craft
    label: str
    likeness: Likeness | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Diff:
    """What a source would change."""

    label: str
    rows: list[Proposed]
    left: list[str]
    likeness: Likeness | None


def body_of(craft: Craft) -> Body:
    """What a craft is like; thrust-to-weight from its newest flight that hovered."""
    flights = list(craft.flights.active()[:_RECENT])
    rooms = [own.loop.authority for _, own in by_flight(flights, "loop") if own is not None and own.loop and own.loop.authority]
    hover = next((1.0 - room.hover_headroom for room in rooms if room.hover_headroom is not None), None)
    return Body(
        name=craft.name, diameter_in=craft.propeller_diameter_in, cells=craft.cells, mass_g=craft.mass_g,
        thrust_to_weight=thrust_to_weight(hover) if hover is not None and 0.02 <= hover <= 1.0 else None,
    )  # fmt: skip


def sources_of(craft: Craft) -> list[Source]:
    """The table, then every other multirotor with settings, the most alike first."""
    own = body_of(craft)
    others = [one for one in Craft.objects.active().filter(kind=craft.kind).exclude(pk=craft.pk) if one.configurations.exists()]
    found = [Source(key=str(one.pk), label=one.name, likeness=likeness(own, body_of(one))) for one in others]
    found.sort(key=lambda one: one.likeness.distance if one.likeness else 0.0)
    return [Source(key="table", label="Table by propeller size", likeness=None), *found]


def diff_of(craft: Craft, source: str) -> Diff:
    """What the table or another craft would change. Raises InputError for a craft without settings, or a source that is gone."""
    latest = _latest(craft)
    settings, names, own = core_settings(latest), name_map(craft), body_of(craft)
    if source == "table":
        rows, left = from_table(own, settings, names)
        return Diff(label="the table by propeller size", rows=rows, left=left, likeness=None)
    other = (
        Craft.objects.active().filter(pk=int(source)).exclude(pk=craft.pk).first()
        if source.isascii() and source.isdigit()
        else None
    )
    if other is None or (given := given_of(other)) is None:
        raise InputError("that craft is gone, or has no settings")
    return _diff(given, latest)


def diff_of_file(craft: Craft, content: bytes) -> Diff:
    """What a file of starting values would change. Raises InputError for anything else."""
    return _diff(from_json(content), _latest(craft))


def diff_typed(craft: Craft, label: str, values: Mapping[str, str]) -> Diff:
    """What was typed, beside the present settings. Raises InputError for a craft without settings."""
    present = {one.name: one.value for one in core_settings(_latest(craft))}
    rows = [
        Proposed(name=name, before=present[name], after=value, meaning="", why="as you typed it")
        for name, value in values.items()
        if name in present
    ]
    return Diff(label=label, rows=rows, left=[], likeness=None)


def given_of(craft: Craft) -> Given | None:
    """A craft's latest settings with their meanings; None without any."""
    latest = latest_configuration(craft)
    if latest is None:
        return None
    return Given(body=body_of(craft), settings=tuple(core_settings(latest)), names=name_map(craft))


def document_of(craft: Craft) -> dict[str, Any]:
    """The open file of a craft's values. Raises InputError without settings."""
    given = given_of(craft)
    if given is None:
        raise InputError("save settings first: there is nothing to export")
    return to_json(given)


def write(tune: Tune, values: Mapping[str, str], source: str, reasons: Mapping[str, str]) -> Slip:
    """One slip with all starting values, and the careful first card. Raises InputError where nothing changes, or at
    the gate: `reasons` hold why it goes beyond a limit, or flies despite a fault."""
    text = services.SlipText(
        title=f"Starting values from {source}"[:120], why="The craft has no gains of its own yet, or cannot be flown with them.",
        expect="It hovers and lands well, without buzz, on cool motors.", risk=_CARE, primary_metric="tracking_error.roll",
        direction="lower", card_key="first_hover",
    )  # fmt: skip
    return services.make_slip(tune, group="start", text=services.with_reasons(text, reasons), values=values)


def _diff(given: Given, latest: Configuration) -> Diff:
    rows, left = from_craft(given, core_settings(latest), name_map(latest.craft))
    try:
        alike = likeness(body_of(latest.craft), given.body)
    except CoreError:
        alike = None
    return Diff(label=given.body.name, rows=rows, left=left, likeness=alike)


def _latest(craft: Craft) -> Configuration:
    latest = latest_configuration(craft)
    if latest is None:
        raise InputError("save the present settings first: starting values are shown beside them")
    return latest
