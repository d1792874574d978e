"""Thistle's story: it weaves to one side, the navigation is loosened, the trim is found and moved, the navigation comes back."""

import math
from datetime import datetime, timedelta

from nembrit.core.wing.checks.criteria import CHECKS, defaults_of
from nembrit.demo import helper
from nembrit.demo.hills import profile_csv
from nembrit.demo.steps import FIRST_DAY, Tell, configured, dated, fly
from nembrit.demo.texts import PLANE_NAME_MAP, THISTLE_NEUTRAL_US, THISTLE_OBSTACLES, THISTLE_SETTINGS, THISTLE_SURFACES
from nembrit.web.ground import services as ground
from nembrit.web.ground.models import CheckLimits, CheckNote, ReturnRule
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes import wingcare
from nembrit.web.tunes.models import Decision, Slip, Tune

HOME_DEG = (51.5, -1.5)
_METRES_PER_DEGREE = 111_320.0


def build(tell: Tell) -> None:
    """From the first weaving flight to a return that was tested on purpose."""
    day = FIRST_DAY + timedelta(days=10)
    craft, configuration = _craft(day)
    tune = tunes.tune_of(craft)
    type(tune).objects.filter(pk=tune.pk).update(stage="trim", route="own", started_at=day)
    fly(
        craft,
        configuration,
        seeds=range(91, 92),
        start=day + timedelta(minutes=20),
        tell=tell,
        card_key="wing_tracks",
        wind_m_s=3.0,
    )
    helper.settle()
    loosened = _loosen(tune, day + timedelta(minutes=40))
    _after(loosened, seed=92, card="wing_tracks", at=day + timedelta(minutes=50), tell=tell, wind_m_s=3.0)
    _decide(loosened, day + timedelta(minutes=70), note="Calmer to look at. It wanders farther from its line, though.")

    day += timedelta(days=1)
    latest = _flown(loosened)
    for number, card in enumerate(("wing_trim", "wing_two_speeds")):
        _one(craft, latest, seed=93 + number, card=card, at=day + timedelta(minutes=15 * number), tell=tell, wind_m_s=0.5)
    helper.settle()
    yaw = _filled(tune, "trim", day + timedelta(minutes=45))
    for number, card in enumerate(("wing_trim", "wing_tracks")):
        _after(yaw, seed=95 + number, card=card, at=day + timedelta(minutes=60 + 15 * number), tell=tell, wind_m_s=1.0)
    _decide(yaw, day + timedelta(minutes=90), note="It stays on its line. Radio trims at zero.")
    roll = _filled(tune, "trim", day + timedelta(minutes=92))
    _after(roll, seed=97, card="wing_trim", at=day + timedelta(minutes=100), tell=tell, wind_m_s=0.5)
    _decide(roll, day + timedelta(minutes=110), note="Nothing lurches in manual. Radio trims at zero again.")

    back = _filled(tune, "navigation", day + timedelta(minutes=115))
    _after(back, seed=98, card="wing_tracks", at=day + timedelta(minutes=120), tell=tell, wind_m_s=3.0)
    _decide(back, day + timedelta(minutes=135), note="As tight as before, and it does not weave any more.")

    day += timedelta(days=1)
    _around(craft, day)
    fly(
        craft,
        _flown(back),
        seeds=range(98, 99),
        start=day + timedelta(minutes=30),
        tell=tell,
        card_key="wing_return",
        wind_m_s=3.0,
    )
    fly(
        craft,
        _flown(back),
        seeds=range(99, 100),
        start=day + timedelta(minutes=50),
        tell=tell,
        card_key="wing_gains",
        wind_m_s=1.0,
    )


def _craft(day: datetime) -> tuple[Craft, Configuration]:
    craft = hangar.create_craft(
        layout=None, name="Thistle", kind=Craft.Kind.FIXED_WING, about="powered glider, two metres, V-tail",
        propeller_diameter_in=11.0, propeller_pitch_in=8.0, propeller_blades=2, cells=3, mass_g=1400.0,
    )  # fmt: skip
    configuration = configured(craft, THISTLE_SETTINGS, note="before trimming", at=day, meanings=PLANE_NAME_MAP)
    hangar.save_surfaces(craft, THISTLE_SURFACES)
    build = hangar.add_build_entry(
        craft, part="as built", text="motor a little to the right", faults={"neutral_us": THISTLE_NEUTRAL_US}
    )
    BuildEntry.objects.filter(pk=build.pk).update(made_at=day)
    return craft, configuration


def _loosen(tune: Tune, at: datetime) -> Slip:
    """What one does who takes weaving for a gain."""
    text = tunes.SlipText(
        title="follow course 12 → 5", why="It weaves along its line.", expect="Less weaving.",
        risk="It may wander off its line: take over.", primary_metric="sway", direction="lower", card_key="wing_tracks",
        despite="to calm it for the afternoon; the trim is looked at tomorrow, in still air",
    )  # fmt: skip
    slip = tunes.make_slip(tune, group="navigation", text=text, values={"follow course": "5"})
    dated(slip, at)
    return slip


def _filled(tune: Tune, group: str, at: datetime) -> Slip:
    """The slip that the workshop fills in."""
    latest = hangar.latest_configuration(tune.craft)
    assert latest is not None
    found = (wingcare.trims if group == "trim" else wingcare.navigation)(tune.craft, latest)
    if found is None or not found.values:
        raise RuntimeError(f"nothing is filled in for {group}")
    start = tunes.suggested(group, tune.craft.kind) | found.text
    fields = {name: start[name] for name in tunes.SlipText.__dataclass_fields__ if name in start}
    slip = tunes.make_slip(tune, group=group, text=tunes.SlipText(**fields), values=found.values)
    dated(slip, at)
    return slip


def _flown(slip: Slip) -> Configuration:
    assert slip.result_configuration is not None
    return slip.result_configuration


def _after(slip: Slip, *, seed: int, card: str, at: datetime, tell: Tell, wind_m_s: float) -> None:
    _one(slip.tune.craft, _flown(slip), seed=seed, card=card, at=at, tell=tell, wind_m_s=wind_m_s)
    helper.settle()


def _one(craft: Craft, flown: Configuration, *, seed: int, card: str, at: datetime, tell: Tell, wind_m_s: float) -> None:
    fly(craft, flown, seeds=range(seed, seed + 1), start=at, tell=tell, card_key=card, wind_m_s=wind_m_s)


def _decide(slip: Slip, at: datetime, *, note: str) -> None:
    decision = tunes.decide(slip, Decision.Outcome.KEEP, note=note)
    Decision.objects.filter(pk=decision.pk).update(decided_at=at)


def _around(craft: Craft, day: datetime) -> None:
    """What stands there, the hills, and what a return must do: written before it is flown."""
    across = _METRES_PER_DEGREE * math.cos(math.radians(HOME_DEG[0]))
    for name, kind, height_m, places in THISTLE_OBSTACLES:
        there = [(HOME_DEG[1] + east / across, HOME_DEG[0] + north / _METRES_PER_DEGREE) for east, north in places]
        ground.add_obstacle(name=name, kind=kind, places=there, height_m=height_m)
    content = profile_csv().encode()
    ground.take_in_profile("North over Harrow Ridge", "sea level", content, start=None, end=None)
    rule = ground.write_rule(craft, {**ground.careful(), "lowest_m": 50.0, "ends_within_m": 70.0})
    ReturnRule.objects.filter(pk=rule.pk).update(written_at=day)
    check = CHECKS[0]
    limits = CheckLimits.objects.create(craft=craft, check_key=check.key, limits=defaults_of(check), written_at=day)
    readings = {"distance_m": 42.0, "servo_jumps": 0.0}
    CheckNote.objects.create(
        craft=craft, check_key=check.key, readings=readings, note="Motor running, held by hand.", done_at=limits.written_at
    )
