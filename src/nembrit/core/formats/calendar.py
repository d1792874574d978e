"""Times of day in a column of text, with or without a date (ISO 8601 and the usual ways to write it by hand)."""

from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl

from nembrit.core.types import FloatArray

_DAY_S = 86_400.0
_LEAST_SHARE = 0.98  # of the cells must be such a time
_ZONE = r"\s*(?P<zone>Z|z|UTC|[+-]\d{2}:?\d{2})?"
_CLOCK = r"(?P<hour>\d{1,2}):(?P<minute>[0-5]\d):(?P<second>[0-5]\d|60)(?:[.,](?P<part>\d{1,9}))?" + _ZONE
_FORMS = (
    rf"^(?:(?P<year>\d{{4}})[-/.](?P<month>\d{{1,2}})[-/.](?P<day>\d{{1,2}})[T ]\s*)?{_CLOCK}$",
    rf"^(?P<day>\d{{1,2}})\.(?P<month>\d{{1,2}})\.(?P<year>\d{{4}})[T ,]\s*{_CLOCK}$",
)


def seconds_of(texts: list[str]) -> tuple[FloatArray, datetime | None] | None:
    """Seconds since the first cell's midnight, NaN for cells that are no time; None for a column of other words.

    That midnight is given where the cells hold a date: in UTC where they say how far they are from it, else without a
    time zone, as a clock on the wall shows it.
    Without a date, a step back by more than half a day is taken for the next day.

    >>> seconds_of(["23:59:59,5", "0:00:00,5"])[0].tolist(), seconds_of(["hover", "cruise"])
    ([86399.5, 86400.5], None)
    """
    column = pl.Series(texts, dtype=pl.String).str.strip_chars()
    if column.len() == 0 or ":" not in (column[0] or "") + (column[-1] or ""):
        return None
    for form in _FORMS:
        parts = column.str.extract_groups(form).struct.unnest()
        if np.mean(parts["hour"].is_not_null().to_numpy()) >= _LEAST_SHARE:
            return _counted(parts)
    return None


def _counted(parts: pl.DataFrame) -> tuple[FloatArray, datetime | None]:
    def number(name: str) -> FloatArray:
        return parts[name].cast(pl.Float64).to_numpy()

    places = parts["part"].str.len_chars().fill_null(0).to_numpy()
    fraction = np.nan_to_num(number("part")) / 10.0**places
    seconds = np.round(number("hour") * 3600 + number("minute") * 60 + number("second") + fraction, int(places.max()))
    if parts["year"].null_count() == parts.height:
        return _past_midnight(seconds), None
    dates = parts.select(pl.concat_str(["year", "month", "day"], separator="-").str.to_date("%Y-%m-%d", strict=False))
    days = dates.to_series().dt.epoch("d").cast(pl.Float64).to_numpy()
    first = float(days[np.isfinite(days)][0]) if np.isfinite(days).any() else 0.0
    zone = parts["zone"][0]
    midnight = datetime(1970, 1, 1) + timedelta(days=first)
    return seconds + (days - first) * _DAY_S, midnight.replace(tzinfo=UTC) - _ahead(zone) if zone else midnight


def _past_midnight(seconds: FloatArray) -> FloatArray:
    known = np.flatnonzero(np.isfinite(seconds))
    passed = np.diff(seconds[known], prepend=seconds[known[:1]]) < -_DAY_S / 2
    whole = seconds.copy()
    whole[known] += _DAY_S * np.cumsum(passed)
    return whole


def _ahead(zone: str) -> timedelta:
    if zone[0] not in "+-":
        return timedelta()
    hours, minutes = int(zone[1:3]), int(zone[-2:])
    return timedelta(hours=hours, minutes=minutes) * (-1 if zone[0] == "-" else 1)
