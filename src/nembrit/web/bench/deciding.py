"""The one decision after a flight, as pages show it."""

from typing import Any
from urllib.parse import urlencode

from nembrit.core.analysis.decision import CHANGE, FLY, REPAIR, Decision, decide
from nembrit.core.analysis.run import FlightResults
from nembrit.core.setup.cards import CARDS
from nembrit.web.bench.choosing import choosing_of
from nembrit.web.bench.records import widened_of
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.services import GROUPS, core_settings, latest_configuration

_LATEST = 20
NEEDED = ("judgement", "response", "shaping", "loop")


def decision_of(flight: Flight, results: FlightResults) -> Decision:
    """What to do next; a flight without settings counts as flown with the latest."""
    latest = latest_configuration(flight.craft)
    flown = flight.configuration
    is_latest = latest is None or flown is None or core_settings(flown) == core_settings(latest)
    findings = results.judgement.findings if results.judgement else ()
    bench = choosing_of(flight, results, widened=widened_of(flight.craft))
    return decide(findings, bench, diameter_in=flight.craft.propeller_diameter_in, is_latest=is_latest)


def newer_of(flight: Flight) -> Flight | None:
    """The newest flight with the craft's latest settings, where this one flew others; None where there is none."""
    latest = latest_configuration(flight.craft)
    if latest is None or flight.configuration is None:
        return None
    wanted = core_settings(latest)
    if core_settings(flight.configuration) == wanted:
        return None
    later = flight.craft.flights.active().filter(configuration__isnull=False).select_related("craft", "configuration")[:_LATEST]
    return next((one for one in later if one.configuration and core_settings(one.configuration) == wanted), None)


def page_of(flight: Flight, decision: Decision) -> dict[str, Any]:
    """A decision with what its button does."""
    return {
        "decision": decision, "is_change": decision.kind == CHANGE, "is_repair": decision.kind == REPAIR,
        "is_flight": decision.kind == FLY, "query": _query(flight, decision), "group_label": GROUPS.get(decision.group or "", ""),
        "card": next((card for card in CARDS if card.key == decision.card), None),
        "others": [(one, _query(flight, one)) for one in decision.alternatives],
    }  # fmt: skip


def _query(flight: Flight, decision: Decision) -> str:
    """The address of the slip that the decision asks for; the slip's own advice fills it in by the same sums."""
    words = {"group": decision.group or "", "flight": str(flight.number)}
    if decision.code is not None and (decision.ratios or decision.idle_ratio):
        words |= {"asks": decision.code, "axis": decision.axis or ""}
    return urlencode(words)
