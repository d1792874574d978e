"""What the trace page needs to know: channels, ready-made views, places to jump to."""

from typing import Any

from nembrit.core.records.roles import spoken
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Channel, Segment
from nembrit.web.logs.storage import load_samples, load_values, main_stream
from nembrit.web.logs.traces import Clock, clocks_of
from nembrit.web.logs.video import marks_of, syncs_of

AXES = ("roll", "pitch", "yaw")
_MOST_MARKERS = 200
_COLOURS = {axis: axis for axis in AXES}
_VIEWS: tuple[tuple[str, str, tuple[tuple[str, tuple[str, ...]], ...]], ...] = (
    ("tracking", "Tracking", (*((axis, (f"setpoint.{axis}", f"gyro.{axis}")) for axis in AXES), ("throttle", ("throttle",)))),
    ("noise", "Noise", tuple((axis, (f"gyro_raw.{axis}", f"gyro.{axis}")) for axis in AXES)),
    ("terms", "P, I, D", tuple((axis, tuple(f"term_{term}.{axis}" for term in "pidf")) for axis in AXES)),
    (
        "stop",
        "P and D over the set-point",
        tuple((axis, (f"setpoint.{axis}", f"term_p.{axis}", f"term_d.{axis}")) for axis in AXES),
    ),
    ("power", "Power", (("voltage", ("battery_voltage",)), ("current", ("battery_current",)), ("throttle", ("throttle",)))),
    (
        "position",
        "Position",
        (("altitude", ("altitude",)), ("ground speed", ("ground_speed",)), ("course", ("course", "heading"))),
    ),
)


def page_of(flight: Flight, main: Segment) -> dict[str, Any]:
    """Everything for the script, as plain data."""
    segments = list(flight.segments.select_related("log").order_by("id"))
    channels = [entry for segment in segments for entry in _channels(segment, segment.pk == main.pk)]
    by_role: dict[str, int] = {}
    for entry in channels:
        by_role.setdefault(entry["role"], entry["id"])
    stream = main_stream(main.log)
    return {
        "channels": channels,
        "views": [view for view in _views(by_role) if view["panes"]],
        "from": stream.start_s,
        "to": stream.end_s,
        "window": [main.start_s, main.end_s],
        "manoeuvres": [
            {"kind": row.kind, "axis": row.axis, "start": row.start_s, "end": row.end_s}
            for row in main.log.manoeuvres.filter(is_removed=False)
        ],
        "gaps": [
            {"start": note["start_s"], "end": note.get("end_s") or note["start_s"]}
            for note in main.log.quality
            if note["code"] == "gap" and note.get("start_s") is not None
        ],
        "markers": _markers(segments, clocks_of(flight)),
        "marks": marks_of(flight),
        "videos": [one for one in syncs_of(flight) if one],
        "has_track": "latitude" in by_role and "longitude" in by_role,
    }


def _channels(segment: Segment, is_main: bool) -> list[dict[str, Any]]:
    rows = (
        Channel.objects.filter(stream__log=segment.log_id)
        .exclude(position=0)
        .select_related("stream")
        .order_by("stream", "position")
    )
    prefix = "" if is_main else f"{segment.log.file_name}: "
    return [
        {
            "id": row.pk,
            "role": row.role if row.role else "",
            "label": prefix + (row.role or row.name),
            "name": prefix + (spoken(row.role) if row.role else row.name),
            "unit": row.unit or "1",
            "colour": _COLOURS.get(row.role.removeprefix("b/").split(".")[-1], "ink"),
            "labels": row.labels,
        }
        for row in rows
    ]


def _views(by_role: dict[str, int]) -> list[dict[str, Any]]:
    found = []
    for key, title, panes in _VIEWS:
        shown = [[by_role[role] for role in roles if role in by_role] for _, roles in panes]
        found.append({"key": key, "title": title, "panes": [pane for pane in shown if pane]})
    motors = sorted((role for role in by_role if role.startswith("motor.")), key=lambda role: int(role.split(".")[1]))
    found.insert(2, {"key": "motors", "title": "Motors", "panes": [[by_role[role]] for role in motors]})
    return found


def _markers(segments: list[Segment], clocks: dict[int, Clock]) -> list[dict[str, Any]]:
    """Moments at which a text channel (mode, event) of any of the flight's logs changes, in the times of the page."""
    found: list[dict[str, Any]] = []
    logs = [segment.log_id for segment in segments]
    for channel in Channel.objects.filter(stream__log__in=logs, role__in=("mode", "event")).select_related("stream"):
        clock = clocks.get(channel.stream.log_id or 0, Clock())
        times = Channel.objects.select_related("stream").get(stream=channel.stream_id, position=0)
        codes = load_samples(channel)
        changes = (codes[1:] != codes[:-1]).nonzero()[0] + 1
        t_s = clock.page(load_values(times))
        for at in changes[:_MOST_MARKERS].tolist():
            label = channel.labels[int(codes[at])] if channel.labels else str(int(codes[at]))
            if label:
                found.append({"at": float(t_s[at]), "label": label})
    return sorted(found, key=lambda marker: marker["at"])[:_MOST_MARKERS]
