"""The one decision after a flight: worked out once, kept until what it rests on changes, the same for every page."""

import hashlib
import json
from urllib.parse import urlencode

import zstandard
from django.db import DatabaseError

from nembrit.core.analysis.decision import CHANGE, Decision, decide
from nembrit.core.analysis.run import FlightResults
from nembrit.core.report.codec import from_json
from nembrit.web.bench.choosing import choosing_of, is_sure
from nembrit.web.bench.models import StoredDecision, StoredResult
from nembrit.web.bench.records import widened_of
from nembrit.web.bench.results import by_flight, packed, results_made
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map, states_of
from nembrit.web.logs.models import Segment
from nembrit.web.logs.windows import main_segment

_VERSION = 3  # of the rules: raised when `core.analysis.decision` or what it calls decides otherwise
_LATEST = 20
NEEDED = ("judgement", "response", "shaping", "loop")


def listen() -> None:
    """Decide as soon as a multirotor's newest flight is analysed, so that no page has to wait for it; simulated ones follow each
    other too quickly for that.
    """
    results_made.connect(_decide_newest, dispatch_uid="bench-decision")


def _decide_newest(sender: object, segment: Segment, **kwargs: object) -> None:
    flight = segment.flight
    if flight.is_simulated or flight.craft.kind != Craft.Kind.MULTIROTOR or flight.craft.flights.active().first() != flight:
        return
    ((_, results),) = by_flight([flight], *NEEDED)
    if results is not None:
        decision_of(flight, results)


def decision_of(flight: Flight, results: FlightResults) -> Decision:
    """What this flight asks for, whatever was changed since."""
    stamp = _stamp(flight)
    kept = StoredDecision.objects.filter(flight=flight, stamp=stamp).first()
    if kept is not None:
        return _unpacked(bytes(kept.content))
    findings = results.judgement.findings if results.judgement else ()
    bench = choosing_of(flight, results, widened=widened_of(flight.craft))
    found = decide(findings, bench, diameter_in=flight.craft.propeller_diameter_in, card=flight.card_key)
    try:
        StoredDecision.objects.update_or_create(flight=flight, defaults={"stamp": stamp, "content": packed(found)})
    except DatabaseError:  # the page can be shown all the same; it is worked out again next time
        return found
    return found


def kept_decision(flight: Flight) -> Decision | None:
    """The same if it was worked out already."""
    kept = StoredDecision.objects.filter(flight=flight, stamp=_stamp(flight)).first()
    return None if kept is None else _unpacked(bytes(kept.content))


def _unpacked(content: bytes) -> Decision:
    found: Decision = from_json(Decision, json.loads(zstandard.ZstdDecompressor().decompress(content)))
    return found


def _stamp(flight: Flight) -> str:
    """A digest of all that the decision rests on."""
    craft, settings = flight.craft, flight.configuration
    segment = main_segment(flight)
    made = StoredResult.objects.current(NEEDED).filter(segment=segment).order_by("analysis")
    parts = [
        _VERSION, craft.propeller_diameter_in, flight.card_key, round(widened_of(craft), 2),
        [(one.name, one.value) for one in core_settings(settings)] if settings else None,
        {name: (one.key, one.scale) for name, one in name_map(craft).items()} if settings else None,
        [(key, version, at.isoformat()) for key, version, at in made.values_list("analysis", "version", "made_at")],
    ]  # fmt: skip
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


@while_unchanged
def deciding_flight(craft: Craft) -> Flight | None:
    """The flight that a craft's next step rests on: the newest with the latest settings, and a measured loop if there is one.

    None where the latest settings were not flown. A fault of the newest flight goes before an older flight's loop.
    """
    latest = latest_configuration(craft)
    flights = list(craft.flights.active().select_related("craft", "configuration")[:_LATEST])
    states = states_of(craft)
    if latest is not None:
        wanted, _ = states.of(latest.pk, None)
        flights = [one for one in flights if states.of(one.configuration_id, None)[0] == wanted]
    if not flights:
        return None
    known = by_flight(flights, *NEEDED)
    newest, results = known[0]
    if results is None or (results.judgement and any(one.holds_gains_back for one in results.judgement.findings)):
        return newest
    build = states.of(None, newest.build_entry_id)
    alike = (pair for pair in known if states.of(None, pair[0].build_entry_id) == build)
    measured = [(one, own) for one, own in alike if own and own.loop and own.loop.axes]
    sure = next((one for one, own in measured if is_sure(own.loop)), None)  # a ramp for noise asks little of the loops
    return sure or (measured[0][0] if measured else newest)


def beside(flight: Flight, results: FlightResults, groups: tuple[str, ...]) -> tuple[bool, str]:
    """How the next step stands to a bench: whether it is one of the bench's groups, and the step in words."""
    found = decision_of(flight, results)
    return found.kind == CHANGE and (found.group or "").startswith(groups), found.why


def query_of(flight: Flight, decision: Decision, place: int = 0) -> str:
    """The address of the slip that a decision asks for: it is filled in with exactly this change."""
    return urlencode({"group": decision.group or "", "flight": str(flight.number), "step": str(place)})
