"""Builds the demo: Juniper's first chapter, and two more craft, flown by the simulator.

Everything goes through the same services and jobs as a user's own work.
"""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from nembrit.demo.recorder import field_recording
from nembrit.demo.texts import BRAMBLE_SETTINGS, JUNIPER_SETTINGS, NAME_MAP, THISTLE_SETTINGS
from nembrit.web.common.jobs import run_job
from nembrit.web.common.models import Job
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.intake import services as intake
from nembrit.web.logs import places
from nembrit.web.logs.models import Log
from nembrit.web.simulator import services as simulator
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Decision, Slip

Tell = Callable[[str], None]
_FIRST_DAY = datetime(2026, 10, 17, 14, 5, tzinfo=UTC)
_PACKS = ("pack 1", "pack 2", "pack 3", "pack 4")


def build_demo(*, tell: Tell, n_flights: int = 4) -> None:
    """Make the demo craft and their flights in an empty workshop."""
    tell("Building the demo: three made-up craft of the Harrowmere Common model club, flown by the simulator ...")
    _juniper(tell, n_flights)
    _bramble(tell)
    _thistle()


def _juniper(tell: Tell, n_flights: int) -> None:
    craft = hangar.create_craft(
        layout="hex", name="Juniper", kind=Craft.Kind.MULTIROTOR, about="carries a small camera over hedgerows",
        propeller_diameter_in=6.0, propeller_pitch_in=4.5, propeller_blades=3, cells=4, mass_g=1150.0,
    )  # fmt: skip
    day = _FIRST_DAY
    reference = _configuration(craft, JUNIPER_SETTINGS, note="as it flew all summer", at=day)
    build = hangar.add_build_entry(craft, part="as built", text="camera plate added in September", faults={"loose_mount": 1.0})
    BuildEntry.objects.filter(pk=build.pk).update(made_at=day)
    _fly(craft, reference, seeds=range(11, 11 + n_flights), start=day + timedelta(minutes=20), tell=tell)

    tune = tunes.tune_of(craft)
    text = tunes.SlipText(
        title="Electronics tray screwed down, new foam",
        why="A broad hump in roll and pitch at every throttle; the tray moves when pressed with a finger.",
        expect="Motion noise on roll well below half.",
        risk="Foam that is too soft would let the tray swing: look for a new hump.",
        primary_metric="motion_noise.roll",
        direction="lower",
        card_key="response",
    )
    slip = tunes.make_slip(tune, group="hardware", text=text, values={}, part="Electronics tray")
    day = _FIRST_DAY + timedelta(days=1)
    Slip.objects.filter(pk=slip.pk).update(created_at=day)
    BuildEntry.objects.filter(slips_to=slip).update(made_at=day)
    _fly(craft, reference, seeds=range(31, 31 + n_flights), start=day + timedelta(minutes=30), tell=tell)
    decision = tunes.decide(
        slip, Decision.Outcome.KEEP, note="Two screws had no thread lock. Checked after every flying day from now on."
    )
    Decision.objects.filter(pk=decision.pk).update(decided_at=day + timedelta(hours=3))

    text = tunes.SlipText(
        title="D on roll from 35 to 24",
        why="Motors came down warm after the tray fix; the step on roll overshoots little, so D has room.",
        expect="Motor roughness 5 % lower or more; overshoot on roll a few points higher.",
        risk="Bounce-back after hard stops: land and undo if it wobbles.",
        primary_metric="motor_roughness",
        direction="lower",
        card_key="response",
        limits=(tunes.Limit(metric="overshoot.roll", most=0.03), tunes.Limit(metric="bounce_back.roll", most=0.15)),
    )
    slip = tunes.make_slip(tune, group="pd.roll", text=text, values={"d on roll": "24"})
    day = _FIRST_DAY + timedelta(days=7)
    Slip.objects.filter(pk=slip.pk).update(created_at=day)
    Configuration.objects.filter(slips_to=slip).update(created_at=day)
    _fly(
        craft,
        craft.configurations.get(slips_to=slip),
        seeds=range(51, 51 + n_flights),
        start=day + timedelta(minutes=25),
        tell=tell,
    )
    _field_recorder(craft)
    # on the way home once more through all the throttle there is: the noise map shows where each line goes
    _fly(
        craft,
        craft.configurations.get(slips_to=slip),
        seeds=range(61, 62),
        start=day + timedelta(minutes=55),
        tell=tell,
        card_key="noise_ramp",
    )


def _field_recorder(craft: Craft) -> None:
    """A second recorder flew along twice: one of its files lies with its flight, the other still in the inbox."""
    last, before = craft.flights.order_by("-number")[:2]
    for flight, late_s, seed in ((last, 1.734, 1), (before, 0.91, 2)):
        content = field_recording(flight, late_s=late_s, skew_ppm=38.0, seed=seed)
        name = f"field-box-{flight.number}.jsonl"
        intake.receive_file(craft, name, content, flight_fields={}, modified_at=flight.flown_at + timedelta(seconds=late_s))
        _finish_jobs()
    places.move_to(Log.objects.get(file_name=f"field-box-{last.number}.jsonl"), last)


def _bramble(tell: Tell) -> None:
    craft = hangar.create_craft(
        layout="quad", name="Bramble", kind=Craft.Kind.MULTIROTOR, about="ducted, for indoor evenings",
        propeller_diameter_in=3.0, propeller_pitch_in=3.0, propeller_blades=5, cells=3, mass_g=240.0,
    )  # fmt: skip
    day = _FIRST_DAY + timedelta(days=9, hours=4)
    configuration = _configuration(craft, BRAMBLE_SETTINGS, note="first evening", at=day)
    _fly(craft, configuration, seeds=range(71, 73), start=day + timedelta(minutes=15), tell=tell, wind_m_s=0.0)


def _thistle() -> None:
    craft = hangar.create_craft(
        layout=None, name="Thistle", kind=Craft.Kind.FIXED_WING, about="powered glider, two metres, V-tail",
        propeller_diameter_in=11.0, propeller_pitch_in=8.0, propeller_blades=2, cells=3, mass_g=1400.0,
    )  # fmt: skip
    _configuration(craft, THISTLE_SETTINGS, note="before trimming", at=_FIRST_DAY + timedelta(days=10))


def _configuration(craft: Craft, text: str, *, note: str, at: datetime) -> Configuration:
    configuration = hangar.paste_configuration(craft, text, note=note)
    names = configuration.settings.values_list("name", flat=True)
    hangar.save_name_map(craft, {name: NAME_MAP.get(name, ("", None)) for name in names})
    Configuration.objects.filter(pk=configuration.pk).update(created_at=at)
    return configuration


def _fly(
    craft: Craft,
    configuration: Configuration,
    *,
    seeds: range,
    start: datetime,
    tell: Tell,
    wind_m_s: float = 2.0,
    card_key: str = "response",
) -> None:
    for number, seed in enumerate(seeds):
        tell(f"  {craft.name}, flight {number + 1} of {len(seeds)} with {configuration}")
        log = simulator.request_simulation(
            craft,
            card_key=card_key,
            configuration=configuration,
            seed=seed,
            wind_m_s=wind_m_s,
            pack_charge_ratio=0.95,
            flight_fields={
                "pack": _PACKS[number % len(_PACKS)],
                "flown_at": (start + timedelta(minutes=6 * number)).isoformat(),
                "conditions": "indoors" if wind_m_s == 0 else "light wind, dry",
            },
        )
        simulator.fly_in_simulator(log)
        _finish_jobs()


def _finish_jobs() -> None:
    """Do the queued jobs here and now; the worker will find them done."""
    while job := Job.objects.unfinished().order_by("pk").first():
        run_job.call(job.pk)
        job.refresh_from_db()
        if job.state != Job.State.DONE:
            raise RuntimeError(f"the demo could not be built: {job.label}: {job.error}")
