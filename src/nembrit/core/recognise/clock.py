"""Which column tells the time, in which unit; or at what rate rows were counted."""

import re

import numpy as np

from nembrit.core.recognise.names import NameGuess
from nembrit.core.recognise.words import clock_unit, tokens_of
from nembrit.core.records.mapping import ClockUse
from nembrit.core.records.raw import RawTable
from nembrit.core.records.units import unit_for
from nembrit.core.types import FloatArray

_UNITS_S = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
_RATE_WORDS = frozenset(
    "rate hz frequency freq frequenz frecuencia frequence frequenza fps aufnahmerate abtastrate "
    "samplerate datenrate lograte muestreo cadence sampling".split()
)
_PERIOD_WORDS = frozenset("period interval dt step looptime periode periodo intervall".split())
_MOST_ROWS = 200_000  # enough to know a clock by
_PLAUSIBLE_HZ = (0.5, 33_000.0)
_PLAUSIBLE_S = (3.0, 4 * 3600.0)


def preamble_rates_hz(preamble: tuple[tuple[str, str], ...]) -> tuple[float, ...]:
    """Sample rates [Hz] that the lines before the table speak of.

    >>> preamble_rates_hz((("Aufnahmerate", "2 kHz"), ("looptime_us", "250"), ("pilot", "9")))
    (2000.0, 4000.0)
    """
    found = []
    for key, value in preamble:
        words = {"sampling" if token.startswith(("sampl", "muestr", "abtast")) else token for token in tokens_of(key)}
        number = re.match(r"\s*([\d.]+)\s*([A-Za-zµ]*)", value)
        if not number:
            continue
        amount, unit = float(number[1] if number[1].count(".") <= 1 and number[1] != "." else "0"), number[2].lower()
        unit = unit or next((token for token in tokens_of(key) if token in (*_UNITS_S, "khz")), "")
        if amount <= 0:
            continue
        if words & _PERIOD_WORDS or (unit in _UNITS_S and words & _RATE_WORDS):
            found.append(1 / (amount * _UNITS_S.get(unit, 1e-6)))
        elif words & _RATE_WORDS:
            found.append(amount * (1000.0 if unit == "khz" else 1.0))
    return tuple(rate for rate in found if _PLAUSIBLE_HZ[0] <= rate <= _PLAUSIBLE_HZ[1])


def clock_of_table(table: RawTable, guesses: tuple[NameGuess, ...], rates_hz: tuple[float, ...]) -> ClockUse:
    """The clock of a table; one that is not known says what is missing."""
    candidates = []
    for position, (column, guess) in enumerate(zip(table.columns, guesses, strict=True)):
        if column.labels is not None or guess.family not in ("time", "counter", ""):
            continue
        numbers = column.numbers(last=_MOST_ROWS)
        step = _step(numbers)
        if step is None or (guess.family == "" and position > 0 and not _is_even(numbers)):
            continue
        order = {"time": 0, "": 1, "counter": 2}[guess.family]
        candidates.append((order, position, guess, numbers, step))
    for _, position, guess, numbers, step in sorted(candidates, key=lambda found: found[:2]):
        use = _clock_from(table, position, guess, numbers, step, rates_hz)
        if use.is_known:
            return use
    if rates_hz:
        return ClockUse(rate_hz=rates_hz[0], confidence=0.7, reason=f"no clock column; {rates_hz[0]:g} Hz stand before the table")
    if candidates:
        name = table.columns[candidates[0][1]].name
        return ClockUse(column=candidates[0][1], reason=f"“{name}” only counts rows: at what rate was this logged?")
    return ClockUse(reason="no time column: at what rate was this logged?")


def _clock_from(
    table: RawTable, position: int, guess: NameGuess, numbers: FloatArray, step: float, rates_hz: tuple[float, ...]
) -> ClockUse:
    column = table.columns[position]
    stated = column.unit or clock_unit(tokens_of(column.name))
    unit = unit_for(stated, "time") if stated else None
    if unit is not None:
        reason = f"“{column.name}” in {stated}"
        return ClockUse(column=position, unit_s=unit.factor, confidence=0.98, reason=reason)
    if guess.family == "time" and column.name == "time":
        return ClockUse(column=position, unit_s=1.0, confidence=0.9, reason="“time”, in seconds")
    for rate_hz in rates_hz:
        for name, unit_s in _UNITS_S.items():
            if abs(step * unit_s * rate_hz - 1) < 0.02:
                reason = f"“{column.name}” steps by {step:.4g}, which is {rate_hz:g} Hz in {name}"
                return ClockUse(column=position, unit_s=unit_s, confidence=0.95, reason=reason)
    is_count = bool(np.all(np.abs(np.diff(numbers)[:1000] - step) < 1e-9)) and step >= 1 and step == int(step)
    if is_count and (guess.family == "counter" or step == 1):
        if rates_hz:
            reason = f"“{column.name}” counts rows; {rates_hz[0]:g} Hz stand before the table"
            return ClockUse(column=position, rate_hz=rates_hz[0] / step, confidence=0.85, reason=reason)
        return ClockUse(column=position, reason=f"“{column.name}” only counts rows: at what rate was this logged?")
    span = step * table.n_rows
    fitting = [
        (name, unit_s)
        for name, unit_s in _UNITS_S.items()
        if _PLAUSIBLE_HZ[0] <= 1 / (step * unit_s) <= _PLAUSIBLE_HZ[1] and _PLAUSIBLE_S[0] <= span * unit_s <= _PLAUSIBLE_S[1]
    ]
    if not fitting or guess.family == "counter":
        return ClockUse(column=position)
    is_whole = step == int(step)
    name, unit_s = fitting[-1] if is_whole and len(fitting) > 1 else fitting[0]
    reason = f"“{column.name}” steps by {step:.4g}: {name} give {1 / (step * unit_s):.4g} Hz"
    confidence = 0.85 if len(fitting) == 1 else 0.6
    return ClockUse(
        column=position, unit_s=unit_s, confidence=confidence if guess.family == "time" else confidence - 0.25, reason=reason
    )


def _step(numbers: FloatArray) -> float | None:
    """The usual step of a column that rises nearly always, else None; ticks coarser than the rows are allowed."""
    steps = np.diff(numbers)
    if steps.size == 0 or not np.isfinite(steps).mean() > 0.99:
        return None
    rising = steps > 0
    if (steps < 0).sum() > max(3, 0.01 * steps.size) or rising.mean() < 0.02:  # a wrap or a restart may be there
        return None
    if rising.mean() > 0.9:
        return float(np.median(steps[rising]))
    return float(steps[rising].sum() / steps.size)


def _is_even(numbers: FloatArray) -> bool:
    steps = np.diff(numbers[:20_000])
    middle = np.median(steps)
    return bool(middle > 0 and np.mean(np.abs(steps - middle) < 0.2 * middle) > 0.95)
