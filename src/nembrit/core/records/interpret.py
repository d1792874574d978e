"""From raw columns and their meanings to a log: the clock is straightened, nothing is invented."""

from dataclasses import replace

import numpy as np

from nembrit.core.errors import LogReadError
from nembrit.core.records.log import Channel, FlightLog, QualityNote, Stream
from nembrit.core.records.mapping import ClockUnknown, Mapping, TableMapping
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.types import BoolArray, FloatArray

_WRAPS = tuple(2.0**bits for bits in (16, 24, 31, 32))


def interpret(raw: RawLog, mapping: Mapping) -> FlightLog:
    """Apply meanings to a file's tables; times count from the first sample of all tables.

    Raises ClockUnknown where a table's rate must be asked for, LogReadError where no table has two
    usable rows.
    """
    streams: list[tuple[Stream, FloatArray]] = []
    notes = list(raw.notes)
    n_dropped = raw.rows_dropped
    is_own = False
    for index, (table, meaning) in enumerate(zip(raw.tables, mapping.tables, strict=True)):
        if table.n_rows < 2:
            continue
        t_s, kept, clock_notes = straightened(table, meaning)
        notes += clock_notes
        n_dropped += int((~kept).sum())
        if kept.sum() < 2:
            continue
        channels = tuple(
            _channel(column, meaning, position, kept, mapping.modes)
            for position, column in enumerate(table.columns)
            if position != meaning.clock.column
        )
        streams.append((Stream(t_s=t_s[kept], channels=channels, table=index), t_s[kept]))
        is_own |= meaning.clock.column is not None and table.columns[meaning.clock.column].name == "time"
    if not streams:
        raise LogReadError("no table in this file has rising times")
    begin_s = 0.0 if is_own else min(float(t_s[0]) for _, t_s in streams)
    shifted = tuple(
        Stream(t_s=np.round(stream.t_s - begin_s, 9) if begin_s else stream.t_s, channels=stream.channels, table=stream.table)
        for stream, _ in streams
    )
    return FlightLog(
        format_key=raw.format_key, streams=shifted, rows_read=raw.rows_read, rows_dropped=n_dropped, quality=tuple(notes)
    )


def _channel(column: RawColumn, meaning: TableMapping, position: int, kept: BoolArray, modes: dict[str, str]) -> Channel:
    use = meaning.columns[position]
    if use.role in ("mode", "b/mode") and column.labels is None:
        column = _worded(column, modes)
    samples = column.samples if kept.all() else column.samples[kept]
    return Channel(
        role=use.role,
        name=column.name,
        unit=use.unit,
        samples=samples,
        divisor=column.divisor,
        factor=use.factor,
        offset=use.offset,
        confidence=use.confidence if use.role else None,
        stated_unit=column.unit,
        reason=use.reason,
        column=position,
        labels=column.labels,
    )


def _worded(column: RawColumn, modes: dict[str, str]) -> RawColumn:
    """A column of mode numbers as words: by the names given, else “mode 14”."""
    numbers = column.numbers()
    numbers = np.where(np.isfinite(numbers), numbers, np.inf)
    found, codes = np.unique(numbers, return_inverse=True)
    words = ["" if np.isinf(value) else mode_name(f"{value:g}", modes) for value in found.tolist()]
    labels = tuple(dict.fromkeys(words))  # two numbers may have one name
    place = np.array([labels.index(word) for word in words], np.int32)
    return replace(column, samples=place[codes.reshape(-1)], divisor=1.0, labels=labels)


def mode_name(number: str, modes: dict[str, str]) -> str:
    """What a mode's number is called; “mode 14” where nobody has said."""
    return modes.get(number) or f"mode {number}"


def straightened(table: RawTable, meaning: TableMapping) -> tuple[FloatArray, BoolArray, list[QualityNote]]:
    """Times [s] of a table's rows, which rows to keep, and what had to be put right.

    Wraps of 16 to 32-bit counters are undone, ticks coarser than the rows are spread evenly, rows
    whose time repeats or runs backward are left out, and a restarted clock goes on after a gap.
    """
    clock = meaning.clock
    if not clock.is_known:
        raise ClockUnknown(clock.reason or "at what rate was this logged?")
    if clock.rate_hz is not None and clock.column is None:
        return np.arange(table.n_rows) / clock.rate_hz, np.ones(table.n_rows, dtype=bool), []
    ticks = table.columns[clock.column or 0].numbers()
    unit_s = 1 / clock.rate_hz if clock.rate_hz is not None else float(clock.unit_s or 1.0)
    notes: list[QualityNote] = []
    has_time = np.isfinite(ticks)
    if not has_time.all():
        notes.append(_note("time_missing", f"{int((~has_time).sum())} rows without a time are left out"))
    rows = np.flatnonzero(has_time)
    if rows.size < 2:
        return ticks, has_time, notes
    plain = _unwrapped(ticks[rows], notes)
    plain, rows = _risen(plain, rows, notes, unit_s=unit_s)
    kept = np.zeros(ticks.size, dtype=bool)
    kept[rows] = True
    t_s = np.full(ticks.size, np.nan)
    # a division gives the nearest double to what was written, a product with 1e-6 does not
    t_s[rows] = plain / round(1 / unit_s) if unit_s < 1 and abs(round(1 / unit_s) * unit_s - 1) < 1e-12 else plain * unit_s
    return t_s, kept, notes


def _unwrapped(ticks: FloatArray, notes: list[QualityNote]) -> FloatArray:
    steps = np.diff(ticks)
    back = np.flatnonzero(steps < 0)
    if back.size == 0 or not np.all(np.mod(ticks, 1) == 0):
        return ticks
    usual = float(np.median(steps[steps > 0])) if (steps > 0).any() else 0.0
    room = 8 * usual  # a few samples may be lost right there
    wrap = next(
        (size for size in _WRAPS if np.all(ticks[back] > size - room) and np.all(ticks[back + 1] < room) and ticks.max() < size),
        None,
    )
    if wrap is None:
        return ticks
    notes.append(_note("clock_wrap", f"the clock overflowed {back.size} time{'s' if back.size > 1 else ''}; corrected", "info"))
    turns = np.concatenate(([0.0], np.cumsum(steps < 0)))
    return np.asarray(ticks + turns * wrap)


def _risen(
    ticks: FloatArray, rows: "np.ndarray[tuple[int], np.dtype[np.int64]]", notes: list[QualityNote], *, unit_s: float
) -> tuple[FloatArray, "np.ndarray[tuple[int], np.dtype[np.int64]]"]:
    """Strictly rising ticks: coarse ones spread, a restarted clock carried on, stray rows left out."""
    steps = np.diff(ticks)
    same = steps == 0
    if same.mean() > 0.2 and not (steps < 0).any():
        firsts = np.flatnonzero(np.concatenate(([True], ~same)))
        index = np.arange(ticks.size, dtype=np.float64)
        last_step = (
            float(np.median(np.diff(ticks[firsts])) / max(1.0, float(np.median(np.diff(firsts))))) if firsts.size > 1 else 1.0
        )
        spread = np.interp(index, firsts, ticks[firsts])
        tail = index > firsts[-1]
        spread[tail] = ticks[firsts[-1]] + (index[tail] - firsts[-1]) * last_step
        notes.append(
            _note("clock_coarse", "the clock ticks more slowly than the rows; times are spread evenly between ticks", "info")
        )
        return spread, rows
    back = np.flatnonzero(steps < 0)
    # a stray row or two runs back; a clock that stays back was started again
    restarts = np.array(
        [at for at in back.tolist() if np.all(ticks[at + 1 : at + 21] < ticks[at]) and at + 21 < ticks.size], dtype=int
    )
    if restarts.size:
        jump = np.zeros(ticks.size)
        for at in restarts:
            jump[at + 1 :] += ticks[at] - ticks[at + 1] + 1.0 / unit_s
        ticks = ticks + jump
        detail = (
            f"the clock started again {restarts.size} time{'s' if restarts.size > 1 else ''}; each part continues "
            f"after a gap of 1 s"
        )
        notes.append(_note("clock_restart", detail))
    before = np.concatenate(([-np.inf], np.maximum.accumulate(ticks)[:-1]))
    rising = ticks > before
    if not rising.all():
        n_same = int(np.count_nonzero(ticks == before))
        n_back = int(np.count_nonzero(ticks < before))
        if n_same:
            notes.append(_note("time_repeated", f"{n_same} rows repeat the previous time and are left out"))
        if n_back:
            notes.append(_note("time_backward", f"{n_back} rows go back in time and are left out"))
    return ticks[rising], rows[rising]


def _note(code: str, detail: str, severity: str = "warning") -> QualityNote:
    return QualityNote(code=code, severity=severity, detail=detail)
