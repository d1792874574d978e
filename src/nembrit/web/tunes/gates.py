"""What each stage needs to pass, and what of it is there."""

from nembrit.core.analysis.decision import CHANGE, VERIFY
from nembrit.core.tuning.design import target_for
from nembrit.web.bench.deciding import deciding_flight, kept_decision
from nembrit.web.bench.results import by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import latest_build, latest_configuration
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.planeneeds import Need, forward, proofs_of, straight, trimmed
from nembrit.web.tunes.verifying import flown_as, verification_of
from nembrit.web.tunes.wingcare import led_back

_FLIGHTS = 4
_FILTERS, _GAINS = ("gyro_filters", "d_filters"), ("pd.", "i", "feed_forward")
_SOUND_PEAK = 1.6  # sensitivity peak up to which a loop is called sound (common practice, no source)


@while_unchanged
def needs_of(tune: Tune) -> list[Need]:
    """What the present stage needs before the next one, by the newest flights of the present settings and build."""
    craft, stage = tune.craft, tune.stage
    latest, build = latest_configuration(craft), latest_build(craft)
    flights, is_plane = flown_as(craft, latest, build) if latest else [], craft.kind == Craft.Kind.FIXED_WING
    if stage == Tune.Stage.BASELINE:
        return [
            Need(text="the original settings are saved", is_met=latest is not None),
            _flown(flights, "one flight of a card with these settings", 1)
            if is_plane
            else _flown(flights, "four flights of one card with these settings"),
        ]
    if stage == Tune.Stage.MECHANICS:
        return (
            [_no_fault(flights)]
            if is_plane
            else [_no_fault(flights), _flown(flights, "four flights of one card with the current build")]
        )
    if stage == Tune.Stage.TRIM:
        return [trimmed(flights), straight(flights), *_led_back(craft, latest)]
    if is_plane and stage in (Tune.Stage.FILTERS, Tune.Stage.GAINS):
        # its recorder is too slow to judge filters by: they stay as they came
        return [] if stage == Tune.Stage.FILTERS else [forward(flights)]
    if stage == Tune.Stage.FILTERS:
        return [
            _no_fault(flights),
            _quiet(craft, flights),
            _decided(tune, _FILTERS, "a filter slip is decided, or no better filters were found"),
        ]
    if stage == Tune.Stage.GAINS:
        return [_sound(craft, flights), _decided(tune, _GAINS, "a gain slip is decided, or no better gains were found")]
    if stage == Tune.Stage.VERIFY:
        none_open = Need(text="no slip is open", is_met=not tune.slips.filter(state=Slip.State.OPEN).exists())
        if is_plane:
            return [none_open, *proofs_of(flights)]
        return [
            none_open,
            _flown(flights, "four flights of one card with the current settings"),
            _verified(tune),
        ]
    if stage == Tune.Stage.LOCKED:
        return [Need(text="the current settings are the reference", is_met=latest is not None and latest.is_reference)]
    return []


def _flown(flights: list[Flight], text: str, least: int = _FLIGHTS) -> Need:
    counts: dict[str, int] = {}
    for flight in flights:
        if flight.card_key:
            counts[flight.card_key] = counts.get(flight.card_key, 0) + 1
    most = max(counts.values(), default=0)
    return Need(text=text, is_met=most >= least, told=f"{min(most, least)} of {least}", is_flown=True)


def _verified(tune: Tune) -> Need:
    found = verification_of(tune)
    text = "a passed comparison with the baseline"
    if found is None:
        return Need(text=text, is_met=False, told="nothing changed yet")
    return Need(text=text, is_met=found.is_passed, told=found.sentence)


def _no_fault(flights: list[Flight]) -> Need:
    text = "no mechanical or electrical fault in the newest flight"
    for flight, results in by_flight(flights[:3], "judgement"):
        if results is not None and results.judgement is not None:
            fault = next((one for one in results.judgement.findings if one.holds_gains_back), None)
            told = f"flight {flight.number}: {fault.highlight}" if fault else f"flight {flight.number} shows none"
            return Need(text=text, is_met=fault is None, told=told)
    return Need(text=text, is_met=False, told="no analysed flight with these settings yet")


def _led_back(craft: Craft, latest: Configuration | None) -> list[Need]:
    """Gains of the navigation that were loosened come back once nothing pulls; nothing to ask where none were."""
    values = led_back(craft, latest) if latest else {}
    told = ", ".join(f"{name} was {value}" for name, value in values.items())
    return [Need(text="the navigation gain is restored", is_met=False, told=told, is_decided=True)] if values else []


def _quiet(craft: Craft, flights: list[Flight]) -> Need:
    target = target_for("usual", craft.propeller_diameter_in)
    text = f"no more than {100 * target:.2g} % motor noise (a starting value), or no better filters"
    for flight, results in by_flight(flights[:3], "metrics"):
        rough = results.metrics.values.get("motor_roughness") if results and results.metrics else None
        if rough is not None:
            is_met = rough <= target or _asks_for(craft, _FILTERS) is False
            return Need(text=text, is_met=is_met, told=f"flight {flight.number}: {100 * rough:.2g} %")
    return Need(text=text, is_met=False, told="not measured yet")


def _sound(craft: Craft, flights: list[Flight]) -> Need:
    text = f"sensitivity peak of every axis up to {_SOUND_PEAK:g}, or no better gains"
    for flight, results in by_flight(flights[:3], "loop"):
        if results is not None and results.loop is not None and results.loop.axes:
            axis, own = max(results.loop.axes.items(), key=lambda pair: pair[1].sensitivity_peak.value)
            peak = own.sensitivity_peak.value
            is_met = peak <= _SOUND_PEAK or _asks_for(craft, _GAINS) is False
            return Need(text=text, is_met=is_met, told=f"flight {flight.number}: {axis} {peak:.2f}")
    return Need(text=text, is_met=False, told="not measured yet: fly the half-minute card")


def _decided(tune: Tune, groups: tuple[str, ...], text: str) -> Need:
    decided = [slip for slip in tune.slips.exclude(state=Slip.State.OPEN) if slip.group.startswith(groups)]
    kept = sum(slip.state == Slip.State.KEPT for slip in decided)
    told = f"{kept} kept, {len(decided) - kept} undone" if decided else ""
    return Need(text=text, is_met=bool(decided) or _asks_for(tune.craft, groups) is False, told=told, is_decided=True)


def _asks_for(craft: Craft, groups: tuple[str, ...]) -> bool | None:
    """Whether the craft's next step is a change of these groups; None while that is not worked out, or takes a flight."""
    flight = deciding_flight(craft)
    decision = kept_decision(flight) if flight else None
    if decision is None or decision.kind not in (CHANGE, VERIFY):
        return None
    return any((one.group or "").startswith(groups) for one in (decision, *decision.alternatives))
