"""The inbox: logs that belong to no flight yet, with a suggestion where they could go."""

from dataclasses import dataclass
from datetime import timedelta

from django.db.models import Prefetch

from nembrit.core.errors import CoreError
from nembrit.core.manoeuvres.alignment import align
from nembrit.web.common.models import Job
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Log, Stream
from nembrit.web.logs.windows import main_segment, recording_of, roles_of

_NEAR = timedelta(minutes=20)
_MOST_COMPARED = 8
_MOST_SHOWN = 100
_KINDS = ("import_log", "simulate")
_SHARED = ("throttle", "stick.", "setpoint.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Waiting:
    """One log of the inbox."""

    log: Log
    holds: str  # what is in it, in words
    job: Job | None
    flight: Flight | None = None  # where it seems to belong
    craft: Craft | None = None
    reason: str = ""


@while_unchanged
def waiting() -> list[Waiting]:
    """Everything in the inbox, newest first; refused files too, until they are put away, and simulated flights that failed."""
    logs = list(
        Log.objects.filter(segments=None, archived_at=None)
        .select_related("craft")
        .prefetch_related(Prefetch("streams", Stream.objects.order_by("-n_samples")), "streams__channels")
        .order_by("-id")[:_MOST_SHOWN]
    )
    about = Job.objects.filter(kind__in=_KINDS, subject_id__in=[log.pk for log in logs])
    jobs = {job.subject_id: job for job in about.order_by("pk")}  # the newest of each
    suggestions = [log.request.get("suggestion", {}) for log in logs]
    flights = Flight.objects.select_related("craft").in_bulk({found.get("flight_id") for found in suggestions} - {None})
    crafts = Craft.objects.in_bulk({found.get("craft_id") for found in suggestions} - {None})
    return [
        _waiting(log, jobs.get(log.pk), flights, crafts)
        for log in logs
        if not log.is_simulated or (log.pk in jobs and not jobs[log.pk].is_unfinished)
    ]


def _waiting(log: Log, job: Job | None, flights: dict[int, Flight], crafts: dict[int, Craft]) -> Waiting:
    holds = in_words(log)
    if log.state != Log.State.READY:
        return Waiting(log=log, holds=holds, job=job)
    suggestion = log.request.get("suggestion", {})
    flight = flights.get(suggestion.get("flight_id"))
    craft = flight.craft if flight else crafts.get(suggestion.get("craft_id"))
    return Waiting(log=log, holds=holds, job=job, flight=flight, craft=craft, reason=suggestion.get("reason", ""))


def in_words(log: Log) -> str:
    """“gyro, set-point, 6 motors; 30 s at 2000 Hz”."""
    streams = log.streams.all()
    if not streams:
        return ""
    stream = max(streams, key=lambda one: one.n_samples)
    roles = {channel.role for one in streams for channel in one.channels.all() if channel.role}
    families = {role.removeprefix("b/").split(".")[0] for role in roles}
    said = [
        word
        for family, word in (
            ("gyro", "gyro"), ("gyro_raw", "raw gyro"), ("setpoint", "set-point"), ("throttle", "throttle"),
            ("accel", "accelerometer"), ("latitude", "positions"), ("altitude", "height"), ("battery_voltage", "pack voltage"),
        )
        if family in families
    ]  # fmt: skip
    n_motors = sum(role.startswith("motor.") for role in roles)
    if n_motors:
        said.append(f"{n_motors} motors")
    length = f"{stream.end_s - stream.start_s:.0f} s at {stream.sample_rate_hz:.4g} Hz"
    return f"{', '.join(said) or 'nothing recognised'}; {length}"


def suggest(log: Log) -> dict[str, object]:
    """Where a log without a flight seems to belong: first by content, then by time, then by the number of motors."""
    crafts = Craft.objects.active()
    flights = Flight.objects.active().select_related("craft")
    if log.craft_id:
        crafts, flights = crafts.filter(pk=log.craft_id), flights.filter(craft=log.craft_id)
    by_content = _by_content(log, list(flights.order_by("-flown_at")[:_MOST_COMPARED]))
    if by_content:
        return by_content
    # a complete log is a flight of its own; the date of a file says little, since copying or unpacking sets it anew
    if log.recorded_at and log.request.get("clock") == "recorder" and not _is_complete(log):
        recorded_at = log.recorded_at
        near = flights.filter(flown_at__range=(recorded_at - _NEAR, recorded_at + _NEAR))
        closest = min(near, key=lambda flight: abs(flight.flown_at - recorded_at), default=None)
        if closest:
            apart = abs((closest.flown_at - log.recorded_at).total_seconds()) / 60
            return {
                "flight_id": closest.pk,
                "craft_id": closest.craft_id,
                "reason": f"recorded within {max(1, round(apart))} min of it",
            }
    n_motors = sum(role.startswith("motor.") for role in roles_of(log))
    alike = [craft for craft in crafts if n_motors and craft.n_motors == n_motors]
    if len(alike) == 1:
        return {"craft_id": alike[0].pk, "reason": f"{n_motors} motors, as {alike[0].name} has"}
    return {"craft_id": log.craft_id, "reason": ""} if log.craft_id else {}


def _is_complete(log: Log) -> bool:
    """Whether a log tells a flight by itself: how the craft turned, and what was asked of it."""
    roles = roles_of(log)
    return any(role.startswith("gyro") for role in roles) and any(role.startswith(("setpoint.", "stick.")) for role in roles)


def _by_content(log: Log, flights: list[Flight]) -> dict[str, object] | None:
    """The flight whose own log shows the same stick movements."""
    if not any(role.startswith(_SHARED) for role in roles_of(log)):
        return None
    own = recording_of(log, _SHARED)
    best = None
    for flight in flights:
        segment = main_segment(flight)
        if segment is None or segment.log_id == log.pk:
            continue
        try:
            found = align(recording_of(segment.log, _SHARED), own)
        except CoreError:
            continue
        if found.correlation > 0.9 and found.certainty_ratio > 0.3 and (best is None or found.correlation > best[0]):
            best = (found.correlation, flight)
    if best is None:
        return None
    reason = f"the same stick movements ({best[0]:.0%} alike)"
    return {"flight_id": best[1].pk, "craft_id": best[1].craft_id, "reason": reason}
