"""Builds the demo: Juniper from a loose tray to locked, and two more craft, flown by the simulator.

Everything goes through the same services and jobs as a user's own work.
"""

from datetime import datetime, timedelta

from django.http import QueryDict

from nembrit.demo import helper, thistle
from nembrit.demo.recorder import field_recording
from nembrit.demo.steps import FIRST_DAY, INDOOR_PACKS, PACKS, Tell, configured, dated, finish_jobs, fly
from nembrit.demo.texts import (
    BRAMBLE_SETTINGS,
    BRAMBLE_STEPS,
    JUNIPER_SETTINGS,
)
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.intake import services as intake
from nembrit.web.logs import places
from nembrit.web.logs.models import Log
from nembrit.web.packs.models import Pack
from nembrit.web.tunes import proposals, truths, verifying
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.models import Decision, Slip


def build_demo(*, tell: Tell, n_flights: int = 4) -> None:
    """Make the demo craft and their flights in an empty workshop."""
    tell("Building the demo: three made-up craft of the Harrowmere Common model club, flown by the simulator ...")
    beside = helper.beside()
    beside.start()
    try:
        _packs()
        juniper = _Juniper(tell, n_flights)
        juniper.until_filters()
        _bramble(tell)  # flown while Juniper's flights are analysed
        juniper.until_locked()
        thistle.build(tell)
        helper.settle()
        _decide()
    finally:
        beside.stop()


def _decide() -> None:
    """What comes next for each craft, so that the hangar says it at once."""
    for craft in Craft.objects.all():
        advice_of(craft)


def _packs() -> None:
    for number, name in enumerate(PACKS):
        pack = Pack.objects.create(name=name, cells=4, capacity_mah=1500, cycles_before=20 + 9 * number)
        pack.entries.create(kind="charged", rest_v=16.78)
    for name in INDOOR_PACKS:
        Pack.objects.create(name=name, cells=3, capacity_mah=450, cycles_before=31)


class _Juniper:
    """From a loose tray over filters and gains, chosen by the benches, to locked."""

    def __init__(self, tell: Tell, n_flights: int) -> None:
        self._tell, self._n = tell, n_flights
        self.craft = hangar.create_craft(
            layout="hex", name="Juniper", kind=Craft.Kind.MULTIROTOR, about="carries a small camera over hedgerows",
            propeller_diameter_in=6.0, propeller_pitch_in=4.5, propeller_blades=3, cells=4, mass_g=1150.0,
        )  # fmt: skip
        self._tune = tunes.tune_of(self.craft)

    def until_filters(self) -> None:
        """The baseline, the tray, and the filters' flights."""
        reference = configured(self.craft, JUNIPER_SETTINGS, note="as it flew all summer", at=FIRST_DAY)
        build = hangar.add_build_entry(
            self.craft, part="as built", text="camera plate added in September", faults={"loose_mount": 1.0}
        )  # fmt: skip
        BuildEntry.objects.filter(pk=build.pk).update(made_at=FIRST_DAY)
        self._fly(reference, first_seed=11, start=FIRST_DAY + timedelta(minutes=20))

        text = tunes.SlipText(
            title="Electronics tray screwed down, new foam",
            why="A broad hump in roll and pitch at every throttle; the tray moves when pressed with a finger.",
            expect="Motion noise on roll well below half.",
            risk="Foam that is too soft would let the tray move: look for a new hump.",
            primary_metric="motion_noise.roll",
            direction="lower",
            card_key="response",
        )
        slip = tunes.make_slip(self._tune, group="hardware", text=text, values={}, part="Electronics tray")
        day = FIRST_DAY + timedelta(days=1)
        dated(slip, day)
        self._fly(reference, first_seed=31, start=day + timedelta(minutes=30))
        helper.settle()
        self._decide(
            slip, day + timedelta(hours=3), note="Two screws had no thread lock. Checked after every flying day from now on."
        )
        truths.tell(slip, "loose_mount", words="two tray screws without thread lock")

        self._filters = self._advised("d_filters", limits=("overshoot.roll", "bounce_back.roll"))
        day = FIRST_DAY + timedelta(days=7)
        dated(self._filters, day)
        assert self._filters.result_configuration is not None
        self._fly(self._filters.result_configuration, first_seed=51, start=day + timedelta(minutes=25))
        _field_recorder(self.craft)

    def until_locked(self) -> None:
        """What the filters brought, the gains, and the comparison with the baseline."""
        day = FIRST_DAY + timedelta(days=7)
        helper.settle()
        self._decide(self._filters, day + timedelta(hours=3), note="Motors only hand-warm after the same card.")
        slip = self._advised("pd.pitch", limits=("motor_roughness", "bounce_back.pitch"))
        day = FIRST_DAY + timedelta(days=8)
        dated(slip, day)
        flown = slip.result_configuration
        assert flown is not None
        self._fly(flown, first_seed=71, start=day + timedelta(minutes=25))
        # on the way home once more through all the throttle there is: the noise map shows where each line goes
        fly(self.craft, flown, seeds=range(61, 62), start=day + timedelta(minutes=55), tell=self._tell, card_key="noise_ramp")
        helper.settle()
        self._decide(slip, day + timedelta(hours=3), note="Stops cleaner in the turns; the camera is steadier.")
        locked = verifying.lock(self._tune, despite="")
        type(locked).objects.filter(pk=locked.pk).update(locked_at=day + timedelta(hours=4), started_at=FIRST_DAY)

    def _fly(self, configuration: Configuration, *, first_seed: int, start: datetime) -> None:
        fly(self.craft, configuration, seeds=range(first_seed, first_seed + self._n), start=start, tell=self._tell)

    def _advised(self, group: str, *, limits: tuple[str, ...]) -> Slip:
        """The slip that the benches write for a group, as the page fills it in."""
        latest = hangar.latest_configuration(self.craft)
        found = proposals.proposal(self.craft, latest, group, QueryDict(""))
        if found is None or not found.values:
            raise RuntimeError(f"the benches advise nothing for {group}")
        start = tunes.suggested(group) | found.text
        fields = {name: start[name] for name in tunes.SlipText.__dataclass_fields__ if name in start}
        harm = tuple(
            tunes.Limit(metric=name, most=0.03 if name.startswith("overshoot") else 0.15)
            for name in limits
            if name != fields["primary_metric"]
        )
        return tunes.make_slip(self._tune, group=group, text=tunes.SlipText(**fields, limits=harm), values=found.values)

    def _decide(self, slip: Slip, at: datetime, *, note: str) -> None:
        decision = tunes.decide(slip, Decision.Outcome.KEEP, note=note)
        Decision.objects.filter(pk=decision.pk).update(decided_at=at)


def _field_recorder(craft: Craft) -> None:
    """A second recorder flew along twice: one of its files lies with its flight, the other still in the inbox."""
    last, before = craft.flights.order_by("-number")[:2]
    for flight, late_s, seed in ((last, 1.734, 1), (before, 0.91, 2)):
        content = field_recording(flight, late_s=late_s, skew_ppm=38.0, seed=seed)
        name = f"field-box-{flight.number}.jsonl"
        intake.receive_file(craft, name, content, flight_fields={}, modified_at=flight.flown_at + timedelta(seconds=late_s))
        finish_jobs()
    places.move_to(Log.objects.get(file_name=f"field-box-{last.number}.jsonl"), last)


def _bramble(tell: Tell) -> None:
    """Half-way through a step-up by feel: one value up by five points, one flight, felt and listened to."""
    craft = hangar.create_craft(
        layout="quad", name="Bramble", kind=Craft.Kind.MULTIROTOR, about="ducted, for indoor evenings",
        propeller_diameter_in=3.0, propeller_pitch_in=3.0, propeller_blades=5, cells=3, mass_g=240.0,
    )  # fmt: skip
    tune = tunes.tune_of(craft)
    type(tune).objects.filter(pk=tune.pk).update(route="step_up")
    at = FIRST_DAY + timedelta(days=9, hours=4)
    configuration = configured(craft, BRAMBLE_SETTINGS, note="first evening", at=at)
    fly(craft, configuration, seeds=range(71, 72), start=at + timedelta(minutes=15), tell=tell, wind_m_s=0.0)
    for number, (name, value, outcome, note) in enumerate(BRAMBLE_STEPS, start=1):
        at += timedelta(minutes=30)
        helper.settle()
        text = tunes.SlipText(
            title=f"{name} up one step, to {value}", why="Step-up by feel: no buzz, no shake, cool motors so far.",
            expect="Follows a little harder.", risk="Buzz, shaking or hot motors: land at once.",
            primary_metric="tracking_error.roll", direction="lower", card_key="response",
            beyond="One small step by feel after a calm flight, close and low.",
        )  # fmt: skip
        slip = tunes.make_slip(tune, group="pd.roll", text=text, values={name: value})
        dated(slip, at)
        assert slip.result_configuration is not None
        fly(
            craft, slip.result_configuration, seeds=range(71 + number, 72 + number), start=at + timedelta(minutes=10), tell=tell,
            wind_m_s=0.0,
        )  # fmt: skip
        decision = tunes.decide(slip, outcome, note=note)
        Decision.objects.filter(pk=decision.pk).update(decided_at=at + timedelta(minutes=20))
