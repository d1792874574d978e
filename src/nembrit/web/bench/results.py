"""Results of flights: analysed once by a job, stored analysis by analysis, and handed to every page from there."""

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import zstandard
from django.db import transaction
from django.dispatch import Signal

from nembrit.core.analysis.flight import ROLES, CraftFacts
from nembrit.core.analysis.flight import Flight as CoreFlight
from nembrit.core.analysis.judgement import JUDGEMENT
from nembrit.core.analysis.loop import LOOP
from nembrit.core.analysis.maps import Maps
from nembrit.core.analysis.run import ANALYSES, FlightResults, analyse, there, wanted_analyses
from nembrit.core.analysis.wing import WING
from nembrit.core.causes.electrical_spikes import CAUSE as SPIKES
from nembrit.core.causes.finding import Finding
from nembrit.core.causes.findings import History
from nembrit.core.progress import Progress
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.types import AXES
from nembrit.web.bench.models import StoredResult
from nembrit.web.common.jobs import job_handler, start_job
from nembrit.web.common.models import Job
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import known_controller, mixer_of, surfaces_of
from nembrit.web.hangar.signals import controller_changed, craft_changed
from nembrit.web.logs.models import Segment
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import load_recording
from nembrit.web.logs.windows import current_spans, main_segment, main_segments

JOB = "evidence"
results_made = Signal()  # sent with `segment` when its missing analyses are stored
__all__ = [
    "Maps", "act_finding_of", "by_flight", "ensure_results", "evidence_of", "latest_act_finding", "metrics_by_flight",
    "results_made", "stored_results", "there",
]  # fmt: skip


# --- making them


def listen() -> None:
    """Analyse every segment as soon as its log is in."""
    segment_ready.connect(_make_anew, dispatch_uid="bench-results")
    craft_changed.connect(_forget, dispatch_uid="bench-results-of-a-craft")
    controller_changed.connect(_forget_loops, dispatch_uid="bench-loops-of-a-craft")


def _make_anew(sender: object, segment: Segment, **kwargs: object) -> None:
    main = main_segment(segment.flight)
    if main is None or main.pk != segment.pk:
        return  # a companion of the log that the flight is judged by
    segment.results.all().delete()  # what rested on the old window, manoeuvres, meanings or craft
    start_analysis(segment)


def _forget_loops(sender: object, craft: Craft, flights: list[int] | None = None, **kwargs: object) -> None:
    """Margins and a plane's trims rest on the settings flown; nothing else does."""
    keys = [LOOP.key, WING.key, JUDGEMENT.key] if craft.kind == Craft.Kind.FIXED_WING else [LOOP.key]
    found = StoredResult.objects.filter(segment__flight__craft=craft, analysis__in=keys)
    (found if flights is None else found.filter(segment__flight__in=flights)).delete()


def _forget(sender: object, craft: Craft, **kwargs: object) -> None:
    StoredResult.objects.filter(segment__flight__craft=craft).delete()  # made anew when a page asks for them


def start_analysis(segment: Segment) -> Job:
    return start_job(JOB, segment.pk, label=f"Analysing flight {segment.flight.number}")


@job_handler(JOB)
def make_results(segment_id: int, progress: Progress) -> None:
    """Run the analyses of one segment that are missing or of an earlier version, and store them together."""
    segment = Segment.objects.select_related("log", "flight__craft").filter(pk=segment_id).first()
    if segment is None:  # the log was moved meanwhile: its new place has a job of its own
        return
    flown = segment.flight.configuration
    craft = replace(
        craft_facts(segment.flight.craft), controller=known_controller(flown), surfaces=surfaces_of(segment.flight.craft, flown)
    )
    missing = missing_analyses(segment)
    if not missing:
        return
    recording = load_recording(segment.log, _wanted(segment)).span(segment.start_s, segment.end_s)
    flight = CoreFlight(recording, craft=craft, spans=current_spans(segment.log), history=_history(segment.flight))
    # findings and metrics first: pages and verdicts need not wait for the margins, which take longest
    for part in ([key for key in missing if key != LOOP.key], [key for key in missing if key == LOOP.key]):
        found = analyse(flight, only=part, progress=progress)
        with transaction.atomic():
            if not Segment.objects.filter(pk=segment.pk).exists():
                return
            for key in part:
                store(segment, key, getattr(found, key))
    results_made.send(sender=Segment, segment=segment)


def craft_facts(craft: Craft) -> CraftFacts:
    """What analyses need to know of a craft."""
    return CraftFacts(kind=craft.kind, mixer=mixer_of(craft), blades=craft.propeller_blades, surfaces=surfaces_of(craft))


def missing_analyses(segment: Segment) -> list[str]:
    """Analyses that this segment has no valid answer of."""
    present = set(segment.results.current().values_list("analysis", flat=True))
    return [one.key for one in wanted_analyses(segment.flight.craft.kind) if one.key not in present]


def store(segment: Segment, key: str, result: Any) -> None:
    """Keep one typed result in the place of an older one."""
    defaults = {"version": ANALYSES[key].version, "content": packed(result)}
    StoredResult.objects.update_or_create(segment=segment, analysis=key, defaults=defaults)


def packed(result: Any) -> bytes:
    """A typed result as JSON, compressed."""
    text = json.dumps(to_json(result), separators=(",", ":"), allow_nan=False)
    return zstandard.ZstdCompressor(level=3).compress(text.encode())


def _wanted(segment: Segment) -> list[str]:
    roles = segment.log.streams.values_list("channels__role", flat=True)
    return [role for role in roles if role and role.startswith(ROLES)]


def _history(flight: Flight) -> History:
    """What was found in this craft's flights before this one; flights that are analysed later do not count."""
    earlier = sorted(flight.craft.flights.active().filter(number__lt=flight.number), key=lambda one: one.number)[-20:]
    known = [results for one, results in by_flight(earlier, "metrics", "judgement") if results is not None]
    names = [f"motion_noise.{axis}" for axis in AXES]
    values = [results.metrics.values for results in known if results.metrics]
    spiky = [finding for results in known if results.judgement for finding in results.judgement.findings]
    return History(
        metrics={name: [own[name] for own in values if name in own] for name in names},
        spike_axes=tuple(one.axis for one in spiky if one.code == SPIKES.code and one.axis),
    )


# --- reading them


def stored_results(flights: Sequence[Flight], *keys: str) -> dict[int, FlightResults]:
    """Valid typed results by flight id: the named analyses, in one query; flights without any of them are absent."""
    rows = list(
        StoredResult.objects.current(keys)
        .filter(segment__flight__in=flights)
        .values_list("segment__flight_id", "segment_id", "analysis", "content")
    )
    segments: dict[int, set[int]] = {}
    for flight_id, segment_id, _, _ in rows:
        segments.setdefault(flight_id, set()).add(segment_id)
    several = [flight for flight in flights if len(segments.get(flight.pk, ())) > 1]
    main = main_segments(several) if several else {}
    found: dict[int, FlightResults] = {}
    for flight_id, segment_id, key, content in rows:
        if main.get(flight_id, segment_id) == segment_id:
            found[flight_id] = replace(found.get(flight_id, FlightResults()), **{key: _decoded(key, bytes(content))})
    return found


def _decoded(key: str, content: bytes) -> Any:
    """The typed result of what is stored; asked for by many pages, so the last ones stay in memory. To be read only."""
    return (_large if len(content) > _LARGE_BYTES else _small)(key, content)


def _decode(key: str, content: bytes) -> Any:
    text = zstandard.ZstdDecompressor().decompress(content)
    return from_json(ANALYSES[key].result, json.loads(text))


_LARGE_BYTES = 50_000  # packed; maps of noise are about 2 MB when unpacked, all others less than 0.1 MB
_small, _large = lru_cache(maxsize=512)(_decode), lru_cache(maxsize=12)(_decode)


def by_flight(flights: Sequence[Flight], *keys: str) -> list[tuple[Flight, FlightResults | None]]:
    """Flights beside their results; None where not all of the named ones are there."""
    found = stored_results(flights, *keys)
    return [
        (flight, own if (own := found.get(flight.pk)) and all(getattr(own, key) is not None for key in keys) else None)
        for flight in flights
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class FlightEvidence:
    """What a page shows of a flight: its results, and the job that makes those that are missing."""

    segment: Segment | None
    results: FlightResults | None  # None: not all that the page needs is there
    job: Job | None
    is_renewed: bool = False  # an older version's numbers are being computed anew


def evidence_of(flight: Flight, *keys: str) -> FlightEvidence:
    """The named results of a flight; starts the job where they are missing or outdated."""
    segment = main_segment(flight)
    if segment is None:
        return FlightEvidence(segment=None, results=None, job=None)
    ((_, results),) = by_flight([flight], *keys)
    job = None if results else _job_for(segment)
    if results is None and (job is None or not job.is_unfinished):  # done at once
        ((_, results),) = by_flight([flight], *keys)
    is_renewed = results is None and segment.results.exists()
    return FlightEvidence(segment=segment, results=results, job=None if results else job, is_renewed=is_renewed)


def _job_for(segment: Segment) -> Job:
    last = Job.objects.about(JOB, segment.pk).first()
    return start_analysis(segment) if last is None or last.state == Job.State.DONE else last


def ensure_results(flights: Sequence[Flight]) -> list[Job]:
    """Start the analysis of flights that miss a valid answer; the jobs that are not done."""
    waiting = _unanswered(flights)
    if not waiting:
        return []
    segments = [one.pk for one in waiting]
    newest = {job.subject_id: job for job in Job.objects.filter(kind=JOB, subject_id__in=segments).order_by("pk")}
    jobs = []
    for segment in waiting:
        job = newest.get(segment.pk)
        if job is None or job.state == Job.State.DONE:
            job = start_analysis(segment)
        if job.state != Job.State.DONE:
            jobs.append(job)
    return jobs


@while_unchanged
def _unanswered(flights: Sequence[Flight]) -> list[Segment]:
    """What these flights are analysed by, where a valid answer is missing."""
    wanted = {kind: {one.key for one in wanted_analyses(kind)} for kind in Craft.Kind.values}
    segments = _main_rows(flights)
    present: dict[int, set[str]] = {}
    for segment_id, key in StoredResult.objects.current().filter(segment__in=segments).values_list("segment_id", "analysis"):
        present.setdefault(segment_id, set()).add(key)
    return [one for one in segments if wanted[one.flight.craft.kind] - present.get(one.pk, set())]


def _main_rows(flights: Sequence[Flight]) -> list[Segment]:
    return list(Segment.objects.filter(pk__in=main_segments(flights).values()).select_related("flight__craft"))


_RECENT = 5


@while_unchanged
def latest_act_finding(craft: Craft) -> tuple[Flight, Finding] | None:
    """The newest flight's finding that calls for action, if it has one: gains wait for mechanics."""
    return act_finding_of(by_flight(list(craft.flights.active()[:_RECENT]), "judgement"))


def act_finding_of(recent: Sequence[tuple[Flight, FlightResults | None]]) -> tuple[Flight, Finding] | None:
    """The same from flights, newest first, whose judgement was loaded already."""
    newest = next(((flight, own) for flight, own in recent[:_RECENT] if own is not None), None)
    if newest is None or newest[1].judgement is None:
        return None
    found = next((finding for finding in newest[1].judgement.findings if finding.holds_gains_back), None)
    return (newest[0], found) if found else None


def metrics_by_flight(flights: Iterable[Flight]) -> dict[int, dict[str, float]]:
    """Metrics in core units by flight id; flights that are not analysed are absent."""
    return {pk: own.metrics.values for pk, own in stored_results(list(flights), "metrics").items() if own.metrics}
