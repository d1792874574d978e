"""GPX 1.1 tracks in and out (Topografix schema, public; `docs/formats.md`)."""

import math
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree
from xml.sax.saxutils import escape

import numpy as np

from nembrit.core.errors import InputError, LogReadError
from nembrit.core.formats.positions import Fix, log_of_fixes
from nembrit.core.formats.source import Source
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawLog
from nembrit.core.types import FloatArray

KEY = "gpx"
LABEL = "GPX 1.1 track"


def matches(head: bytes) -> bool:
    text = head[:4096].replace(b"\0", b"").lower()
    return b"<gpx" in text or (b"<?xml" in text and b"topografix" in text)


def check_head(head: bytes) -> None:
    """Refuse what carries a document type: GPX has none, and entities can blow up."""
    if b"<!doctype" in head.lower() or b"<!entity" in head.lower():
        raise LogReadError("this XML file defines entities, which GPX does not; it is not read")


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read all track points, else route points, else waypoints. Raises LogReadError for broken XML."""
    content = source.all()
    check_head(content)
    progress("reading the track", 0.0)
    try:
        root = ElementTree.fromstring(content)
    except (ElementTree.ParseError, ValueError, LookupError) as error:
        raise LogReadError(f"this GPX file is broken: {error}") from None
    fixes, notes, n_bad = [], [], 0
    for number, (segment, point) in enumerate(_points(root), start=1):
        try:
            fixes.append(_fix(point, segment))
        except ValueError:
            n_bad += 1
            if n_bad <= 5:
                notes.append(
                    QualityNote(code="row", severity="warning", detail=f"point {number} has no valid position; left out")
                )
    name = next((element.text for element in root.findall(".//{*}name") if element.text), None)
    preamble = (("name", name[:200]),) if name else ()
    return log_of_fixes(fixes, format_key=KEY, n_dropped=n_bad, notes=tuple(notes), preamble=preamble)


def _points(root: ElementTree.Element) -> list[tuple[int, ElementTree.Element]]:
    """Track points with the number of their segment; without any, route points, else waypoints."""
    parts = [segment.findall("{*}trkpt") for segment in root.findall(".//{*}trkseg")]
    parts = [part for part in parts if part] or [root.findall(".//{*}rtept")]
    parts = [part for part in parts if part] or [root.findall(".//{*}wpt")]
    return [(number, point) for number, part in enumerate(parts) for point in part]


def _fix(point: ElementTree.Element, segment: int) -> Fix:
    latitude, longitude = float(point.get("lat", "")), float(point.get("lon", ""))
    if not (abs(latitude) <= 90 and abs(longitude) <= 180):
        raise ValueError("not a valid position")
    return Fix(
        at_s=_seconds(point.findtext("{*}time")),
        latitude_deg=latitude,
        longitude_deg=longitude,
        altitude_m=_number(point.findtext("{*}ele")),
        ground_speed_m_s=_number(next((element.text for element in point.findall(".//{*}speed")), None)),
        segment=segment,
        course_deg=_number(next((element.text for element in point.findall(".//{*}course")), None)),
    )


def _number(text: str | None) -> float:
    try:
        value = float(text) if text else math.nan
    except ValueError:
        return math.nan
    return value if math.isfinite(value) else math.nan


def _seconds(text: str | None) -> float:
    """Seconds since 1970 of an ISO 8601 time; without a zone it is taken as UTC, as GPX wants."""
    if not text:
        return math.nan
    try:
        moment = datetime.fromisoformat(text.strip())
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()
    except (ValueError, OverflowError):
        return math.nan


def write(
    t_s: FloatArray,
    latitude_deg: FloatArray,
    longitude_deg: FloatArray,
    altitude_m: FloatArray | None,
    *,
    name: str,
    started_at: datetime,
) -> bytes:
    """One track of the fixes that have a position; times are `started_at` plus `t_s`."""
    whole = np.isfinite(latitude_deg) & np.isfinite(longitude_deg)
    if whole.sum() < 2:
        raise InputError("fewer than two positions in this span, so there is no track")
    rows = []
    for k in np.flatnonzero(whole):
        moment = started_at.astimezone(UTC) + timedelta(seconds=float(t_s[k]))
        height = f"<ele>{altitude_m[k]:.2f}</ele>" if altitude_m is not None and np.isfinite(altitude_m[k]) else ""
        stamp = moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")
        rows.append(f'<trkpt lat="{latitude_deg[k]:.7f}" lon="{longitude_deg[k]:.7f}">{height}<time>{stamp}</time></trkpt>')
    body = "\n".join(rows)
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n<gpx version="1.1" creator="Nembrit" xmlns="http://www.topografix.com/GPX/1/1">\n'
        f"<trk><name>{escape(name)}</name><trkseg>\n{body}\n</trkseg></trk>\n</gpx>\n"
    ).encode()
