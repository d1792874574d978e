"""Evidence: analysed once by a job, stored, and handed to every page from there."""

import hashlib
import json
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from nembrit.core.progress import Progress
from nembrit.core.report.documents import evidence_document
from nembrit.core.report.evidence import ROLES, VERSION, analyse
from nembrit.core.tuning.findings import History
from nembrit.core.types import AXES
from nembrit.web.bench.models import StoredResult
from nembrit.web.common.jobs import job_handler, start_job
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import mixer_of
from nembrit.web.logs.desk import current_spans, main_segment
from nembrit.web.logs.models import Segment
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import load_recording

ANALYSIS = "evidence"


def listen() -> None:
    """Analyse every segment as soon as its log is in."""
    segment_ready.connect(_queue_evidence, dispatch_uid="bench-evidence")


def _queue_evidence(sender: object, segment: Segment, **kwargs: object) -> None:
    main = main_segment(segment.flight)
    if main is None or main.pk != segment.pk:
        return  # a companion of the log that the flight is judged by
    segment.results.all().delete()  # what rested on the old window, manoeuvres or meanings
    transaction.on_commit(lambda: start_evidence(segment))


def start_evidence(segment: Segment) -> Job:
    return start_job("evidence", segment.pk, label=f"Analysing flight {segment.flight.number}")


@job_handler("evidence")
def make_evidence(segment_id: int, progress: Progress) -> None:
    """Analyse one segment and store the result in place of an older one."""
    segment = Segment.objects.select_related("log__craft", "flight").get(pk=segment_id)
    mixer = mixer_of(segment.log.craft)
    recording = load_recording(segment.log, _wanted(segment)).span(segment.start_s, segment.end_s)
    evidence = analyse(
        recording,
        mixer=mixer,
        blades=segment.log.craft.propeller_blades,
        history=_history(segment.flight),
        spans=current_spans(segment.log),
        progress=progress,
    )
    StoredResult.objects.update_or_create(
        segment=segment,
        analysis=ANALYSIS,
        defaults={"version": VERSION, "parameters": _parameters(segment), "payload": evidence_document(evidence)},
    )


def _history(flight: Flight) -> History:
    """What was found in this craft's flights before this one; flights that are analysed later do not count."""
    earlier = sorted(flight.craft.flights.active().filter(number__lt=flight.number), key=lambda one: one.number)[-20:]
    payloads = stored_payloads(earlier)
    known = [payloads[one.pk] for one in earlier if one.pk in payloads]
    names = [f"motion_noise.{axis}" for axis in AXES]
    return History(
        metrics={name: [payload["metrics"][name] for payload in known if name in payload["metrics"]] for name in names},
        spike_axes=tuple(
            finding["axis"]
            for payload in known
            for finding in payload["findings"]
            if finding["code"] == "electrical_spikes" and finding["axis"]
        ),
    )


def _wanted(segment: Segment) -> list[str]:
    roles = segment.log.streams.values_list("channels__role", flat=True)
    return [role for role in roles if role and role.startswith(ROLES)]


def _parameters(segment: Segment) -> dict[str, Any]:
    mixer = mixer_of(segment.log.craft)
    spans = repr([(span.kind, span.axis, round(span.start_s, 4), round(span.end_s, 4)) for span in current_spans(segment.log)])
    return {
        "start_s": segment.start_s,
        "end_s": segment.end_s,
        "mixer": None if mixer is None else mixer.tolist(),
        "manoeuvres": hashlib.sha256(spans.encode()).hexdigest()[:16],
        "meanings": hashlib.sha256(json.dumps(segment.log.applied_mapping, sort_keys=True).encode()).hexdigest()[:16],
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class FlightEvidence:
    """What a page shows of a flight: the payload, or the job that makes it; both None: no log yet."""

    segment: Segment | None
    payload: dict[str, Any] | None
    job: Job | None
    is_renewed: bool = False  # an older version's numbers are being computed anew


def evidence_of(flight: Flight) -> FlightEvidence:
    """The stored evidence of a flight; starts the job where it is missing or outdated."""
    segment = main_segment(flight)
    if segment is None:
        return FlightEvidence(segment=None, payload=None, job=None)
    stored = segment.results.filter(analysis=ANALYSIS).first()
    if stored and stored.version == VERSION and stored.parameters == _parameters(segment):
        return FlightEvidence(segment=segment, payload=stored.payload, job=None)
    last = Job.objects.about("evidence", segment.pk).first()
    if last is None or (not last.is_unfinished and last.state == Job.State.DONE):
        last = start_evidence(segment)
        stored = segment.results.filter(analysis=ANALYSIS).first()
        if stored and stored.version == VERSION and stored.parameters == _parameters(segment):
            return FlightEvidence(segment=segment, payload=stored.payload, job=None)
    return FlightEvidence(segment=segment, payload=None, job=last, is_renewed=stored is not None)


def stored_payloads(flights: list[Flight]) -> dict[int, dict[str, Any]]:
    """Current payloads by flight id; flights whose evidence is missing or outdated are absent."""
    rows = StoredResult.objects.filter(segment__flight__in=flights, analysis=ANALYSIS, version=VERSION).select_related("segment")
    found: dict[int, list[StoredResult]] = {}
    for row in rows:
        found.setdefault(row.segment.flight_id, []).append(row)
    return {flight_id: _main_result(results).payload for flight_id, results in found.items()}


def _main_result(results: list[StoredResult]) -> StoredResult:
    """Of several logs of one flight, the result of the one that the flight is judged by."""
    if len(results) == 1:
        return results[0]
    main = main_segment(results[0].segment.flight)
    return next((row for row in results if main and row.segment_id == main.pk), results[0])


def ensure_evidence(flights: list[Flight]) -> list[Job]:
    """Start the analysis of flights whose evidence is missing or outdated; the jobs that are not done."""
    known = stored_payloads(flights)
    found = [evidence_of(flight).job for flight in flights if flight.pk not in known]
    return [job for job in found if job is not None]


@dataclass(frozen=True, slots=True, kw_only=True)
class NoiseRow:
    """One axis of the noise table: bands in deg/s RMS with intervals, the flight before, the craft's best."""

    axis: str
    bands: dict[str, Any]
    filtered: dict[str, Any] | None
    change_pct: float | None
    best_dps: float | None


def noise_rows(flight: Flight, payload: dict[str, Any]) -> tuple[list[NoiseRow], Flight | None]:
    """The noise table, with the change since the craft's flight before this one."""
    others = list(flight.craft.flights.active().exclude(pk=flight.pk))
    metrics = {pk: other["metrics"] for pk, other in stored_payloads(others).items()}
    previous = next((other for other in others if other.number < flight.number and other.pk in metrics), None)
    rows = []
    for axis in AXES:
        noise = payload["noise"].get(axis, {})
        shown = noise.get("raw") or noise.get("filtered")
        if not shown:
            continue
        name = f"motion_noise.{axis}"
        now = payload["metrics"].get(name)
        before = metrics[previous.pk].get(name) if previous else None
        every = [found[name] for found in metrics.values() if name in found] + ([now] if now else [])
        rows.append(
            NoiseRow(
                axis=axis,
                bands=shown["bands"],
                filtered=noise["filtered"]["bands"] if "raw" in noise and "filtered" in noise else None,
                change_pct=100 * (now / before - 1) if now and before else None,
                best_dps=min(every) if every else None,
            )
        )
    return rows, previous


@dataclass(frozen=True, slots=True, kw_only=True)
class MetricHistory:
    """One metric over a craft's flights, as points of a small picture of 600 by 90."""

    points: tuple[dict[str, Any], ...] = ()
    line: str = ""
    low: float = 0.0
    high: float = 0.0
    spoken: str = ""


def history_of(flight: Flight, metric: str) -> MetricHistory:
    """The craft's own history of a metric, oldest first, at most 40 flights."""
    flights = sorted(flight.craft.flights.active(), key=lambda one: one.number)[-40:]
    payloads = stored_payloads(flights)
    known = {pk: payload["metrics"] for pk, payload in payloads.items()}
    values = [(one, known[one.pk][metric]) for one in flights if metric in known.get(one.pk, {})]
    if len(values) < 2:
        return MetricHistory()
    low, high = min(value for _, value in values), max(value for _, value in values)
    points = tuple(
        {
            "x": round(10 + 580 * k / (len(values) - 1), 1),
            "y": round(80 - 70 * (value - low) / ((high - low) or 1.0), 1),
            "number": one.number,
            "value": value,
            "is_this": one.pk == flight.pk,
        }
        for k, (one, value) in enumerate(values)
    )
    spoken = ", ".join(f"{one.number}: {value:.1f}" for one, value in values)
    return MetricHistory(points=points, line=" ".join(f"{p['x']},{p['y']}" for p in points), low=low, high=high, spoken=spoken)


def headline(payload: dict[str, Any]) -> str:
    """The page's title: the main finding in a sentence."""
    findings = [finding for finding in payload["findings"] if finding["severity"] != "info"]
    if findings:
        return str(findings[0]["summary"]).rstrip(".")
    steps = payload["response"]
    overshoots = {axis: step["overshoot_pct"] for axis, step in steps.items() if step["overshoot_pct"] is not None}
    if overshoots:
        axis, most = max(overshoots.items(), key=lambda pair: pair[1])
        follow = f"{axis} overshoots most, by {most:.0f} %" if most >= 10 else "every axis follows with little overshoot"
        return f"No fault found; {follow}" if "finding.loose_mount" not in payload["reasons"] else follow[0].upper() + follow[1:]
    if any(payload["noise"].get(axis) for axis in AXES):
        if not any(name.startswith("motion_noise") for name in payload["metrics"]):
            return "This log is too slow to measure noise; log at 1 kHz or more"
        return "Noise measured; the response could not be judged from this flight"
    return "This log cannot answer the questions of this page yet"


def latest_act_finding(craft: Craft) -> tuple[Flight, dict[str, Any]] | None:
    """The newest flight's finding that calls for action, if it has one: gains wait for mechanics."""
    flights = list(craft.flights.active()[:5])
    payloads = stored_payloads(flights)
    newest = next((flight for flight in flights if flight.pk in payloads), None)
    if newest is None:
        return None
    found = next((finding for finding in payloads[newest.pk]["findings"] if finding["holds_back"]), None)
    return (newest, found) if found else None


def untested(payload: dict[str, Any]) -> list[tuple[str, str]]:
    """Faults that this flight could not be asked about, with what would change that."""
    return [(name.removeprefix("finding."), reason) for name, reason in payload["reasons"].items() if name.startswith("finding.")]
