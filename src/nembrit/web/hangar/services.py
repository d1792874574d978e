"""What the hangar does: craft, build entries, configurations and their meaning."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.setup import configuration as core_configuration
from nembrit.core.setup import namemap
from nembrit.core.setup.configuration import Setting as CoreSetting
from nembrit.core.setup.configuration import SettingChange
from nembrit.core.setup.controller import Controller, chains_from_settings, controller_from_settings
from nembrit.core.setup.craft import LAYOUTS, SURFACES, Motor, Surface, layout_motors
from nembrit.core.setup.craft import Craft as CoreCraft
from nembrit.core.setup.frame import Place as Place
from nembrit.core.setup.frame import places_of, rearranged
from nembrit.core.setup.given import from_table
from nembrit.core.setup.pasted import Pasted, parse_settings, read_pasted
from nembrit.core.setup.style import PLAIN, Style, style_of
from nembrit.core.simulate.airframe import airframe_of
from nembrit.core.simulate.assumed import Assumption, Filled, filled_map
from nembrit.core.types import FloatArray
from nembrit.web.hangar.models import Actuator, BuildEntry, Configuration, Craft, NameMapEntry, Setting
from nembrit.web.hangar.signals import controller_changed, craft_changed

LAYOUT_CHOICES = [(key, label) for key, (label, *_) in LAYOUTS.items()]
MEANINGS = namemap.MEANINGS
GROUPS = namemap.GROUPS
START_GROUPS = namemap.START_GROUPS
SURFACE_ROLES = SURFACES
GAIN_UNITS = namemap.GAIN_UNITS
_OTHER_SCALE = 0.1  # relative difference of a found scale that is news


# planes by what steers them: servos in a usual order, to be corrected by whoever wired them
PLANES: dict[str, tuple[str, tuple[str, ...]]] = {
    "plane_tail": ("ailerons, elevator and rudder", ("aileron", "aileron", "elevator", "rudder")),
    "plane_v_tail": ("ailerons and a V-tail", ("aileron", "aileron", "v_tail_left", "v_tail_right")),
    "plane_wing": ("elevons, a flying wing", ("elevon_left", "elevon_right")),
    "plane_other": ("something else, or not known yet", ()),
}


@transaction.atomic
def create_craft(*, layout: str | None, **fields: object) -> Craft:
    """A new craft with the motors of a regular layout, or the servos of a plane of `PLANES`; `layout` None: with neither."""
    craft = Craft.objects.create(**fields)
    if layout in PLANES:
        roles = PLANES[layout][1]
        save_surfaces(craft, [{"servo": servo, "role": role} for servo, role in enumerate(roles, start=1)])
        return craft
    motors = layout_motors(layout) if layout else ()
    Actuator.objects.bulk_create(
        Actuator(craft=craft, kind=Actuator.Kind.MOTOR, number=n, roll=motor.roll, pitch=motor.pitch, yaw=motor.yaw)
        for n, motor in enumerate(motors, start=1)
    )
    return craft


def set_archived(craft: Craft, *, archived: bool) -> None:
    """Put a craft away, or bring it back; nothing is deleted."""
    craft.archived_at = timezone.now() if archived else None
    craft.save(update_fields=("archived_at",))


def core_craft(craft: Craft) -> CoreCraft:
    """The craft as the core knows it."""
    motors = craft.actuators.filter(kind=Actuator.Kind.MOTOR)
    return CoreCraft(
        name=craft.name,
        kind=craft.kind,
        motors=tuple(Motor(roll=motor.roll, pitch=motor.pitch, yaw=motor.yaw) for motor in motors),
        diameter_in=craft.propeller_diameter_in,
        pitch_in=craft.propeller_pitch_in,
        blades=craft.propeller_blades,
        cells=craft.cells,
        mass_g=craft.mass_g,
        surfaces=surfaces_of(craft),
    )


def surfaces_of(craft: Craft, configuration: Configuration | None = None) -> tuple[Surface, ...]:
    """What the servos of a plane move, in the order of the log's channels; centres from the settings where they say them."""
    rows = craft.actuators.filter(kind=Actuator.Kind.SERVO).exclude(role="").order_by("number")
    said = {servo: value for servo, (_, value) in centres_of(configuration).items()} if configuration else {}
    return tuple(
        Surface(
            servo=row.number, role=row.role, direction=row.direction,
            centre_us=said.get(row.number) or row.centre_us or 1500.0, throw_us=row.throw_us or 500.0,
        )
        for row in rows
    )  # fmt: skip


_SERVO_NUMBER = re.compile(r"(\d+)\D*$")


def centres_of(configuration: Configuration) -> dict[int, tuple[str, float]]:
    """Servo centres among the settings, by the number that their names end with: name and microseconds."""
    names = name_map(configuration.craft)
    found = {}
    for one in core_settings(configuration):
        meaning, number, value = names.get(one.name), _SERVO_NUMBER.search(one.name), core_configuration.number(one.value)
        if meaning is not None and meaning.key == "trim" and number and value is not None and 500 <= value <= 2500:
            found[int(number[1])] = (one.name, value)
    return found


def saved_forward(craft: Craft) -> dict[str, float]:
    """Feed-forward of roll and pitch in the latest settings, in the tuner's numbers, where they say it."""
    latest = latest_configuration(craft)
    if latest is None:
        return {}
    names, found = name_map(craft), {}
    for one in core_settings(latest):
        meaning, value = names.get(one.name), core_configuration.number(one.value)
        if meaning is not None and value is not None and re.fullmatch(r"gain\.rate\.(roll|pitch)\.f", meaning.key):
            found[meaning.key.split(".")[2]] = value
    return found


@transaction.atomic
def save_surfaces(craft: Craft, rows: Sequence[Mapping[str, Any]]) -> bool:
    """Note what the servos move; whether anything changed. Answers about its flights are worked out anew then."""
    surfaces = tuple(Surface(**row) for row in rows)
    if surfaces == surfaces_of(craft):
        return False
    craft.actuators.filter(kind=Actuator.Kind.SERVO).delete()
    Actuator.objects.bulk_create(
        Actuator(
            craft=craft, kind=Actuator.Kind.SERVO, number=one.servo, role=one.role, direction=one.direction,
            centre_us=one.centre_us, throw_us=one.throw_us,
        )
        for one in surfaces
    )  # fmt: skip
    craft_changed.send(sender=Craft, craft=craft)
    return True


def motor_numbers(craft: Craft) -> list[int]:
    """The motors' numbers, as logs count them."""
    return list(craft.actuators.filter(kind=Actuator.Kind.MOTOR).order_by("number").values_list("number", flat=True))


MOTORS_CHECKED = "motors checked"


def motors_checked(craft: Craft) -> None:
    """Remember that somebody looked at the motors' places."""
    if MOTORS_CHECKED not in craft.skipped_questions:
        craft.skipped_questions = [*craft.skipped_questions, MOTORS_CHECKED]
        craft.save(update_fields=("skipped_questions",))


def motor_places(craft: Craft) -> tuple[Place, ...]:
    """Where each motor sits, clockwise from the right of the nose."""
    return places_of(core_craft(craft).motors)


def rearrange_motors(craft: Craft, numbers: Sequence[int], clockwise: Sequence[bool]) -> bool:
    """Count the motors in another order, or turn some the other way; whether anything changed. Raises InputError."""
    before = core_craft(craft).motors
    after = rearranged(before, numbers, clockwise)
    if after == before:
        return False
    with transaction.atomic():
        for number, motor in enumerate(after, start=1):
            rows = craft.actuators.filter(kind=Actuator.Kind.MOTOR, number=number)
            rows.update(roll=motor.roll, pitch=motor.pitch, yaw=motor.yaw)
        craft_changed.send(sender=Craft, craft=craft)
    return True


def mixer_of(craft: Craft) -> FloatArray | None:
    """Mixer matrix (n_motors, 3), or None for a craft without motors that turn it."""
    mixer = core_craft(craft).mixer()
    return mixer if mixer.shape[0] >= 3 else None


def add_build_entry(
    craft: Craft, *, part: str, text: str = "", faults: dict[str, object] | None = None, **fields: object
) -> BuildEntry:
    """Note a change of hardware; flights from now on belong to it."""
    return BuildEntry.objects.create(
        craft=craft, made_at=timezone.now(), part=part, text=text, simulated_faults=faults or {}, **fields
    )


def states_of(craft: Craft) -> "States":
    """What settings and builds of a craft are equal, told by what they are and not by their number."""
    lines: dict[int, list[tuple[str, str]]] = {}
    rows = Setting.objects.filter(configuration__craft=craft).values_list("configuration_id", "name", "value")
    for configuration_id, name, value in rows:
        lines.setdefault(configuration_id, []).append((name, " ".join(value.split())))
    first: dict[tuple[tuple[str, str], ...], int] = {}
    settings = {pk: first.setdefault(tuple(sorted(own)), pk) for pk, own in sorted(lines.items())}
    builds: dict[int | None, int | None] = {}
    for pk, is_return, returns_to in craft.build_entries.order_by("pk").values_list("pk", "is_return", "returns_to"):
        builds[pk] = builds.get(returns_to, returns_to) if is_return else pk
    return States(settings=settings, builds=builds)


@dataclass(frozen=True, slots=True, kw_only=True)
class States:
    """For each configuration and build entry the first one that it equals."""

    settings: dict[int, int]
    builds: dict[int | None, int | None]

    def of(self, configuration_id: int | None, build_id: int | None) -> tuple[int | None, int | None]:
        same = None if configuration_id is None else self.settings.get(configuration_id, configuration_id)
        return same, self.builds.get(build_id, build_id)


def latest_build(craft: Craft) -> BuildEntry | None:
    return craft.build_entries.last()


def core_settings(configuration: Configuration) -> tuple[CoreSetting, ...]:
    """The configuration's lines in order."""
    return tuple(CoreSetting(name, value) for name, value in configuration.settings.values_list("name", "value"))


def written_as(configuration: Configuration | None) -> Style:
    """How the tuner writes these settings."""
    return Style(verb=configuration.verb, between=configuration.between) if configuration else PLAIN


def latest_configuration(craft: Craft) -> Configuration | None:
    return craft.configurations.first()


def understood(text: str) -> Pasted:
    """What is understood of pasted lines, a CSV or a JSON document, and every doubtful one. Raises InputError."""
    table = from_table(text)
    return read_pasted(core_configuration.settings_text(table)) if table is not None else read_pasted(text)


def paste_configuration(craft: Craft, text: str, *, note: str = "", without_doubtful: bool = False) -> Configuration:
    """A new revision from pasted lines; proposes meanings for names that have none yet.

    Raises InputError for unclear lines unless they are to be left out, or when nothing differs from the latest revision.
    """
    table = from_table(text)
    lines = text if table is None else core_configuration.settings_text(table)
    settings = read_pasted(lines).settings if without_doubtful else parse_settings(lines)
    if not settings:
        raise InputError("no settings found; paste lines such as “p on roll = 42”")
    latest = latest_configuration(craft)
    if latest and not core_configuration.diff_settings(core_settings(latest), settings):
        raise InputError(f"nothing differs from {latest}, so there is no new revision to keep")
    style = style_of(text) if table is None else None
    return add_configuration(craft, settings, source=Configuration.Source.PASTED, note=note, style=style)


@transaction.atomic
def add_configuration(
    craft: Craft, settings: Sequence[CoreSetting], *, source: str, note: str = "", style: Style | None = None
) -> Configuration:
    """Keep settings as the craft's next revision, written as the one before where no style is given; the first one becomes
    the reference.
    """
    latest = latest_configuration(craft)
    number = (craft.configurations.aggregate(top=Max("number"))["top"] or 0) + 1
    configuration = Configuration.objects.create(
        craft=craft, number=number, parent=latest, source=source, note=note, is_reference=latest is None,
        verb=(style or written_as(latest)).verb[:40], between=(style or written_as(latest)).between[:20],
    )  # fmt: skip
    Setting.objects.bulk_create(
        Setting(configuration=configuration, position=position, name=setting.name, value=setting.value)
        for position, setting in enumerate(settings)
    )
    known = set(craft.name_map.values_list("name", flat=True))
    proposals = namemap.propose_map(
        [setting.name for setting in settings], {setting.name: core_configuration.number(setting.value) for setting in settings}
    )
    NameMapEntry.objects.bulk_create(
        NameMapEntry(craft=craft, name=name, meaning=meaning.key, scale=meaning.scale)
        for name, meaning in proposals.items()
        if name not in known
    )
    return configuration


@transaction.atomic
def set_reference(configuration: Configuration) -> None:
    """Mark the one revision that is known to be good."""
    Configuration.objects.filter(craft=configuration.craft, is_reference=True).update(is_reference=False)
    Configuration.objects.filter(pk=configuration.pk).update(is_reference=True)


def diff(before: Configuration, after: Configuration) -> tuple[SettingChange, ...]:
    return core_configuration.diff_settings(core_settings(before), core_settings(after))


def name_map(craft: Craft) -> dict[str, namemap.Meaning]:
    """What names mean; a scale that nobody typed is the one that a log told, where one did."""
    return {
        entry.name: namemap.Meaning(entry.meaning, entry.found_scale if entry.scale is None else entry.scale)
        for entry in craft.name_map.all()
    }


@transaction.atomic
def note_found_scales(craft: Craft, flight_number: int, scales: Mapping[tuple[str, str], float]) -> bool:
    """Keep what a log told of gains whose scale nobody typed, by axis and term for the settings that it flew; whether that
    is news. A later log replaces it only where it says something clearly different.
    """
    keys = {f"gain.rate.{axis}.{term}": scale for (axis, term), scale in scales.items()}
    news = False
    for entry in NameMapEntry.objects.filter(craft=craft, meaning__in=keys, scale=None):
        scale, known = keys[entry.meaning], entry.found_scale
        if known is None or abs(scale / known - 1) > _OTHER_SCALE:
            entry.found_scale, entry.found_in = scale, flight_number
            entry.save(update_fields=("found_scale", "found_in"))
            news = True
    return news


@transaction.atomic
def save_name_map(craft: Craft, meanings: Mapping[str, tuple[str, float | None]]) -> None:
    """Replace the meanings of the given names; an empty meaning removes it. Raises InputError for a doubtful map."""
    used: dict[str, str] = {}
    latest = latest_configuration(craft)
    values = {setting.name: core_configuration.number(setting.value) for setting in core_settings(latest)} if latest else {}
    for name, (meaning, scale) in meanings.items():
        if not meaning:
            continue
        if meaning not in MEANINGS:
            raise InputError(f"“{name}”: “{meaning}” is no meaning Nembrit knows")
        if meaning not in ("other", "trim") and meaning in used:
            raise InputError(f"“{used[meaning]}” and “{name}” cannot both be the {MEANINGS[meaning]}")
        if scale is not None and not 0 < scale < 1e6:
            raise InputError(f"“{name}”: a scale must be above 0, got {scale:g}")
        namemap.check_sense(name, namemap.Meaning(meaning, scale), values.get(name))
        used[meaning] = name
    before = name_map(craft)
    found = {(one.name, one.meaning): (one.found_scale, one.found_in) for one in craft.name_map.all()}
    NameMapEntry.objects.filter(craft=craft, name__in=meanings).delete()
    for name, (meaning, scale) in meanings.items():
        if meaning:
            told, flight = found.get((name, meaning), (None, None)) if scale is None else (None, None)
            NameMapEntry.objects.create(
                craft=craft, name=name, meaning=meaning, scale=scale, found_scale=told, found_in=flight
            )  # fmt: skip
    if name_map(craft) != before:
        controller_changed.send(sender=Craft, flights=None, craft=craft)


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedSetting:
    """A setting with what it means and the slip group it belongs to."""

    name: str
    value: str
    meaning: str
    explain: str
    scale: float | None  # as typed
    found_in: int | None  # the flight whose log told the scale, where nobody typed it
    group: str


def named_settings(configuration: Configuration) -> list[NamedSetting]:
    """Every line of a configuration with its meaning."""
    entries = {entry.name: entry for entry in configuration.craft.name_map.all()}
    result = []
    for setting in core_settings(configuration):
        entry = entries.get(setting.name)
        key = entry.meaning if entry else ""
        result.append(
            NamedSetting(
                name=setting.name,
                value=setting.value,
                meaning=key,
                explain=MEANINGS.get(key, ""),
                scale=entry.scale if entry else None,
                found_in=entry.found_in if entry and entry.scale is None else None,
                group=namemap.group_of(key),
            )
        )
    return result


def controller_of(configuration: Configuration) -> Controller:
    """The controller in SI units; raises InputError for what is missing or wrong.

    Gains that are not known are assumed, as `assumptions_about` tells.
    """
    return _filled_map(configuration.craft).controller(core_settings(configuration))


def known_controller(configuration: Configuration | None) -> Controller | None:
    """The controller where every gain's scale is known, else None: what is only assumed judges nothing."""
    if configuration is None:
        return None
    try:
        return controller_from_settings(core_settings(configuration), name_map(configuration.craft))
    except InputError:
        return None


def flown_chains(configuration: Configuration | None) -> Controller | None:
    """The filters of a configuration, whatever is known of its gains; None where no filter has a meaning."""
    if configuration is None:
        return None
    try:
        return chains_from_settings(core_settings(configuration), name_map(configuration.craft))
    except InputError:
        return None


def notch_places(configuration: Configuration | None) -> int:
    """How many fixed notches the craft's settings can say."""
    if configuration is None:
        return 0
    names = name_map(configuration.craft)
    present = {setting.name for setting in core_settings(configuration)}
    keys = {meaning.key for name, meaning in names.items() if name in present and meaning.scale}
    return sum(f"filter.gyro.{slot}.centre_hz" in keys for slot in ("notch", "notch_2"))


def assumptions_about(craft: Craft) -> tuple[Assumption, ...]:
    """What the simulator assumes about gains whose scale is not known; nothing where it cannot fly the craft anyway."""
    try:
        return _filled_map(craft).assumptions
    except InputError:
        return ()


def _filled_map(craft: Craft) -> Filled:
    names = name_map(craft)
    reference = craft.configurations.filter(is_reference=True).first() or craft.configurations.order_by("number").first()
    if reference is None:
        return Filled(names=names)
    return filled_map(core_settings(reference), names, airframe_of(core_craft(craft)))
