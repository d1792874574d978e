"""What was noted at the field, beside a flight's evidence: markers laid onto the log by its take-off."""

from dataclasses import dataclass

from nembrit.core.setup.outing import Told
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights import field
from nembrit.web.flights.models import Flight, Outing
from nembrit.web.logs.models import Segment
from nembrit.web.logs.windows import current_spans


@dataclass(frozen=True, slots=True, kw_only=True)
class Noted:
    """One marker; where the log's take-off is known, also where it is in the log."""

    what: str
    at_s: float
    log_s: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldNotes:
    """An outing beside its flight."""

    outing: Outing
    told: Told
    markers: tuple[Noted, ...]


@while_unchanged
def notes_of(flight: Flight, segment: Segment | None) -> FieldNotes | None:
    """The outing of a flight, its markers aligned to the take-off that the log shows; None without one."""
    outing = Outing.objects.filter(flight=flight).first()
    if outing is None:
        return None
    told = field.told_of(outing)
    took_off = next((span.start_s for span in current_spans(segment.log) if span.kind == "take_off"), None) if segment else None
    markers = tuple(
        Noted(what=what, at_s=at_s, log_s=None if took_off is None else took_off + at_s) for at_s, what in told.markers
    )
    return FieldNotes(outing=outing, told=told, markers=markers)


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """An outing that still waits for its log."""

    outing: Outing
    why: str = ""  # what speaks for it; empty: nothing in particular


def could_be(flight: Flight, segment: Segment | None) -> list[Candidate]:
    """Outings that still wait for their log, where this flight has none and was not simulated; the one that fits first."""
    if flight.is_simulated or Outing.objects.filter(flight=flight).exists():
        return []
    waiting = field.waiting_for_log(flight.craft)
    if segment is None:
        return [Candidate(outing=one) for one in waiting]
    airborne_s = _airborne_s(segment)
    tapped_s = {one.pk: field.told_of(one).landed_s for one in waiting}
    fitting = field.best_fit(airborne_s, tapped_s)
    why = f"its {tapped_s[fitting]:.0f} s in the air are those of this log" if fitting is not None else ""
    found = [Candidate(outing=one, why=why if one.pk == fitting else "") for one in waiting]
    return sorted(found, key=lambda one: not one.why)


def _airborne_s(segment: Segment) -> float:
    """From the take-off that the log shows to its landing; the usable part where it shows none."""
    spans = current_spans(segment.log)
    begins = min((span.start_s for span in spans if span.kind == "take_off"), default=segment.start_s)
    ends = max((span.end_s for span in spans if span.kind == "landing"), default=segment.end_s)
    return ends - begins
