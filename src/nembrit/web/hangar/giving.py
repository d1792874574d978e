"""Configurations given out, and what leads from one to another."""

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import settings_text
from nembrit.core.setup.controller import chains_from_settings
from nembrit.core.setup.given import RestoreList, as_csv, as_json, restore_list
from nembrit.core.setup.style import styled
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map, written_as

FORMS = {"txt": "text/plain", "csv": "text/csv", "json": "application/json"}


def given_out(configuration: Configuration, form: str) -> str:
    """All settings as text, CSV or JSON; each is read back identically."""
    settings, names = core_settings(configuration), name_map(configuration.craft)
    if form == "csv":
        return as_csv(settings, names)
    return as_json(settings, names) if form == "json" else styled(settings, written_as(configuration))


def reference_text(craft: Craft) -> str:
    """A craft's reference settings as lines, for a sister craft to start from; its newest ones where none is the reference."""
    found = craft.configurations.filter(is_reference=True).first() or latest_configuration(craft)
    return settings_text(core_settings(found)) if found else ""


def restore_from(present: Configuration, wanted: Configuration) -> RestoreList:
    """What to type to go from one revision to another."""
    return restore_list(core_settings(present), core_settings(wanted))


def lines_between(present: Configuration, wanted: Configuration) -> str:
    """The same as lines in the tuner's own style."""
    return styled(restore_from(present, wanted).lines, written_as(wanted))


def firmware_between(one: Configuration, other: Configuration) -> list[BuildEntry]:
    """Build entries of firmware made between two revisions: the same numbers may mean something else since."""
    first, last = sorted((one.created_at, other.created_at))
    made = one.craft.build_entries.filter(made_at__gt=first, made_at__lte=last)
    return [entry for entry in made if "firmware" in f"{entry.part} {entry.text}".lower()]


def rate_curves(configuration: Configuration) -> dict[str, list[tuple[float, float]]]:
    """Stick rates by axis as points of stick and deg/s, where their settings have meanings."""
    try:
        chains = chains_from_settings(core_settings(configuration), name_map(configuration.craft))
    except InputError:
        return {}
    return {axis: list(points) for axis, points in (chains.stick_rates if chains else {}).items()}
