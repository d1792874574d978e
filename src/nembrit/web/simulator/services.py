"""Flying in the simulator: the stand-in for going out to fly; its log comes in like any other."""

import io
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import CoreError, InputError
from nembrit.core.formats import nembrit_csv
from nembrit.core.progress import Progress
from nembrit.core.setup.autopilot import Autopilot, autopilot_from_settings
from nembrit.core.setup.card import Card
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.airframe import Faults, SecondGyro, World
from nembrit.core.simulate.plane.airframe import AIRFRAMES, PlaneFaults, PlaneWorld, airframe_of, cruise_m_s, sound_gains
from nembrit.web.common.fields import row_number
from nembrit.web.common.jobs import job_handler, start_job
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import assumptions_about as assumptions_about
from nembrit.web.hangar.services import (
    controller_of,
    core_craft,
    core_settings,
    latest_build,
    latest_configuration,
    name_map,
    surfaces_of,
)
from nembrit.web.intake.arrivals import arrive
from nembrit.web.intake.services import take_in
from nembrit.web.logs.models import Log
from nembrit.web.simulator.conditions import CONDITIONS, PLANE_CONDITIONS


def request_simulation(
    craft: Craft,
    *,
    card_key: str,
    configuration: Configuration,
    seed: int,
    wind_m_s: float,
    pack_charge_ratio: float,
    faults: dict[str, Any] | None = None,
    second_board: bool = False,
    flight_fields: dict[str, Any] | None = None,
) -> Log:
    """Note a flight for the simulator; `faults` None: what the craft's latest build entry says it suffers from.

    Raises InputError at once for a craft, card or configuration that cannot be flown.
    """
    if card_of(card_key) is None:
        raise InputError(f"there is no card “{card_key}”")
    if craft.kind == Craft.Kind.FIXED_WING:
        PlaneWorld(seed=seed, wind_m_s=wind_m_s)
        _autopilot_of(surfaces_of(craft, configuration), configuration)
    else:
        controller_of(configuration)
        World(seed=seed, wind_m_s=wind_m_s, pack_charge_ratio=pack_charge_ratio)
        if len(core_craft(craft).motors) < 3:
            raise InputError("the simulator flies multirotors with three to eight motors, and planes")
    build = latest_build(craft)
    if faults is None:
        faults = build.simulated_faults if build else {}
    world = {"seed": seed, "wind_m_s": wind_m_s, "pack_charge_ratio": pack_charge_ratio, "faults": faults}
    world |= {"second_board": True} if second_board else {}
    fields = {"card_key": card_key, "configuration_id": configuration.pk, "wind_m_s": wind_m_s, **(flight_fields or {})}
    file_name = f"{craft.name.lower()}-{card_key}-{seed}.csv"
    return Log.objects.create(craft=craft, file_name=file_name, request={"simulation": world, "flight": fields})


def fly_in_simulator(log: Log) -> Job:
    """Start the flight that `request_simulation` noted."""
    return start_job("simulate", log.pk, label=f"Flying {log.craft} in the simulator")


@job_handler("simulate")
def simulate(log_id: int, progress: Progress) -> None:
    """Fly, write the log's file, and take it in like any other."""
    from nembrit.core.simulate.flight import DECIMALS, fly, write_order  # compiles: not before it is needed

    log = Log.objects.select_related("craft").get(pk=log_id)
    if log.segments.exists():
        return
    progress("flying", 0.0)
    world = dict(log.request["simulation"])
    card = card_of(log.request["flight"]["card_key"])
    configuration = Configuration.objects.get(pk=log.request["flight"]["configuration_id"])
    if card is None:
        raise InputError("the card is gone")
    if log.craft is None:
        raise InputError("the craft is gone")
    try:
        if log.craft.kind == Craft.Kind.FIXED_WING:
            content = _plane_log(log.craft, configuration, card, world)
        else:
            craft = core_craft(log.craft)
            faults = Faults(**world.pop("faults", {}))
            second = SecondGyro(noise_factor=2.5, resonance_ratio=0.5) if world.pop("second_board", False) else None
            flown = fly(craft, controller_of(configuration), card, World(**world, faults=faults, second_gyro=second))
            progress("writing the log", 0.2)
            roles = [*write_order(craft), *(role for role in flown.channels if role.startswith("b/"))]
            content = nembrit_csv.write([(role, flown.channels[role]) for role in roles], flown.t_s, decimals=DECIMALS)
        arrived = arrive(b"", io.BytesIO(content))
        log.digest, log.size_bytes = arrived.digest, arrived.size_bytes
        log.save(update_fields=("digest", "size_bytes"))
        arrived.keep(log)
        take_in(log, content, lambda stage, share: progress(stage, 0.3 + 0.7 * share))
    except CoreError as error:
        Log.objects.filter(pk=log.pk).update(state=Log.State.REFUSED, error=str(error))
        raise


def _plane_log(craft: Craft, configuration: Configuration, card: Card, world: dict[str, Any]) -> bytes:
    """A plane's flight with the servo centres and gains of a configuration, as a file."""
    from nembrit.core.simulate.plane.flight import DECIMALS, fly_plane  # compiles: not before it is needed

    # where a plane flies straight is its own, whatever centres its settings give it
    straight = {str(one.servo): one.centre_us for one in surfaces_of(craft)}
    faults = PlaneFaults(**{"neutral_us": straight, **world.get("faults", {})})
    surfaces = surfaces_of(craft, configuration)
    flown = fly_plane(
        surfaces, card, PlaneWorld(seed=world["seed"], wind_m_s=world["wind_m_s"], faults=faults),
        autopilot=_autopilot_of(surfaces, configuration),
    )  # fmt: skip
    return nembrit_csv.write(flown.columns, flown.t_s, decimals=DECIMALS)


def _autopilot_of(surfaces: tuple[Surface, ...], configuration: Configuration) -> Autopilot:
    plane = AIRFRAMES[airframe_of(surfaces)]
    names = name_map(configuration.craft)
    return autopilot_from_settings(core_settings(configuration), names, sound=sound_gains(plane, cruise_m_s(plane)))


def default_seed(craft: Craft) -> int:
    """A seed that this craft has not flown yet."""
    return 100 + craft.logs.count()


def flown_configuration(craft: Craft, configuration_id: str) -> Configuration | None:
    """The chosen configuration, or the latest one."""
    wanted = row_number(configuration_id)
    return craft.configurations.filter(pk=wanted).first() if wanted else latest_configuration(craft)


@dataclass(frozen=True, slots=True, kw_only=True)
class LastFlown:
    """One of the newest simulated flights, with what it was flown with."""

    flight: Flight
    said: str


def last_flown(craft: Craft, most: int = 5) -> list[LastFlown]:
    """The newest flights of a craft that the simulator flew."""
    logs = craft.logs.filter(request__has_key="simulation", archived_at=None).order_by("-pk")
    found = []
    for log in logs.prefetch_related("segments__flight__configuration")[: 2 * most]:
        segment = next(iter(log.segments.all()), None)
        if segment is not None and segment.flight.archived_at is None:
            found.append(LastFlown(flight=segment.flight, said=_said(segment.flight, log)))
    return found[:most]


def _said(flight: Flight, log: Log) -> str:
    card = card_of(flight.card_key)
    said = [card.name if card else "no card", str(flight.configuration or "no settings")]
    faults = log.request["simulation"].get("faults")
    known = next(
        (label for label, wanted in (*CONDITIONS.values(), *PLANE_CONDITIONS.values()) if wanted == faults), "as it is built"
    )
    return " · ".join([*said, known])
