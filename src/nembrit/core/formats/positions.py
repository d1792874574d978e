"""Position fixes as a table: what GPX tracks and NMEA sentences have in common."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from nembrit.core.errors import LogReadError
from nembrit.core.formats.compact import exact_integers
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawColumn, RawLog, RawTable


@dataclass(frozen=True, slots=True, kw_only=True)
class Fix:
    """One position. Angles in degrees, WGS 84; NaN where the source is silent."""

    at_s: float  # seconds since 1970, UTC; NaN without a time
    latitude_deg: float
    longitude_deg: float
    altitude_m: float = float("nan")
    ground_speed_m_s: float = float("nan")
    course_deg: float = float("nan")
    segment: int = 0  # the path is not joined from one segment to the next


def log_of_fixes(
    fixes: Sequence[Fix],
    *,
    format_key: str,
    n_dropped: int,
    notes: tuple[QualityNote, ...],
    preamble: tuple[tuple[str, str], ...] = (),
) -> RawLog:
    """Fixes as a raw log whose columns are named by their roles. Raises LogReadError for fewer than two."""
    if len(fixes) < 2:
        raise LogReadError(f"{len(fixes)} position{'' if len(fixes) == 1 else 's'} in this file; at least two are expected")
    at_s = np.array([fix.at_s for fix in fixes])
    begin = at_s[np.isfinite(at_s)]
    started = datetime.fromtimestamp(float(begin[0]), UTC) if begin.size and -6e10 < begin[0] < 2e11 else None
    columns = []
    if begin.size:
        # whole milliseconds from the first fix: exact, and small
        milliseconds = np.where(np.isfinite(at_s), np.rint((at_s - begin[0]) * 1000), np.nan)
        samples, _ = exact_integers(milliseconds)
        columns.append(RawColumn(name="time", unit="s", samples=samples, divisor=1000.0))
    for name, unit, field in (
        ("latitude", "deg", "latitude_deg"), ("longitude", "deg", "longitude_deg"), ("altitude", "m", "altitude_m"),
        ("ground_speed", "m/s", "ground_speed_m_s"), ("course", "deg", "course_deg"),
    ):  # fmt: skip
        values = np.array([getattr(fix, field) for fix in fixes])
        if np.isfinite(values).any():
            samples, divisor = exact_integers(values)
            columns.append(RawColumn(name=name, unit=unit, samples=samples, divisor=divisor))
    segments = np.array([fix.segment for fix in fixes], dtype=np.int16)
    if segments.any():
        columns.append(RawColumn(name="segment", unit="", samples=segments))
    return RawLog(
        format_key=format_key,
        tables=(RawTable(columns=tuple(columns)),),
        rows_read=len(fixes),
        rows_dropped=n_dropped,
        preamble=preamble,
        notes=notes,
        started_at=started,
    )
