"""Ways in which logs get worse: each takes a table of channels on its clock and gives a worse one.

Harmless ones may change no answer beyond its interval; the others may only be refused or make answers less sure.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight, Prepared
from nembrit.core.formats.registry import with_quality
from nembrit.core.records.log import FlightLog, Stream, channel
from nembrit.core.types import FloatArray


@dataclass(frozen=True, kw_only=True, eq=False)
class Table:
    """A log before it is read: times of its rows and channels by role."""

    t_s: FloatArray
    channels: dict[str, FloatArray]

    def rows(self, places: FloatArray | np.ndarray) -> "Table":
        return replace(self, t_s=self.t_s[places], channels={role: values[places] for role, values in self.channels.items()})

    def changed(self, family: str, change: Callable[[FloatArray], FloatArray]) -> "Table":
        return replace(self, channels={r: change(v) if r.startswith(family) else v for r, v in self.channels.items()})


Damage = Callable[[Table], Table]


def flight_of(table: Table, craft: CraftFacts) -> Flight:
    """The usable part of a table as Nembrit reads it."""
    rising = np.concatenate(([True], np.diff(np.maximum.accumulate(table.t_s)) > 0))
    table = table.rows(rising)
    stream = Stream(t_s=table.t_s, channels=tuple(channel(role, values) for role, values in table.channels.items()), table=0)
    log = with_quality(FlightLog(format_key="table", streams=(stream,), rows_read=table.t_s.size))
    prepared = Prepared(log)
    return Flight(prepared.recording.span(*prepared.window_s), craft=craft, spans=prepared.spans)


def lost_rows(share: float, burst: int = 1, seed: int = 3) -> Damage:
    def damage(table: Table) -> Table:
        n = table.t_s.size
        kept = np.ones(n, bool)
        for start in np.random.default_rng(seed).choice(n - burst - 2, int(n * share / burst), replace=False) + 1:
            kept[start : start + burst] = False
        return table.rows(kept)

    return damage


def doubled_rows(share: float) -> Damage:
    def damage(table: Table) -> Table:
        n = table.t_s.size
        twice = np.random.default_rng(4).random(n) < share
        return table.rows(np.repeat(np.arange(n), 1 + twice))

    return damage


def swapped_rows(share: float) -> Damage:
    def damage(table: Table) -> Table:
        order = np.arange(table.t_s.size)
        for k in np.flatnonzero(np.random.default_rng(5).random(order.size - 1) < share):
            order[[k, k + 1]] = order[[k + 1, k]]
        return table.rows(order)

    return damage


def jitter(share: float) -> Damage:
    """Stamps that are late or early by a share of the period, and a clock that drifts by 50 ppm."""

    def damage(table: Table) -> Table:
        period = float(np.median(np.diff(table.t_s)))
        late = np.random.default_rng(6).normal(0, share * period, table.t_s.size)
        return replace(table, t_s=np.sort((table.t_s + late) * (1 + 5e-5)))

    return damage


def at_rate(rate_hz: float) -> Damage:
    """Written more slowly, every row the nearest one of the loop."""

    def damage(table: Table) -> Table:
        t_s = np.arange(table.t_s[0], table.t_s[-1], 1 / rate_hz)
        places = np.searchsorted(table.t_s, t_s).clip(0, table.t_s.size - 1)
        return replace(table.rows(places), t_s=t_s)

    return damage


def coarse(step_dps: float) -> Damage:
    def damage(table: Table) -> Table:
        for family in ("gyro", "setpoint"):
            table = table.changed(family, lambda values: np.round(values / step_dps) * step_dps)
        return table

    return damage


def clipped(most_dps: float) -> Damage:
    return lambda table: table.changed("gyro", partial(np.clip, a_min=-most_dps, a_max=most_dps))


def without(*families: str) -> Damage:
    return lambda table: replace(table, channels={r: v for r, v in table.channels.items() if not r.startswith(families)})


HARMLESS: dict[str, Damage] = {
    "0.1 % of rows lost": lost_rows(0.001), "0.3 % of rows lost": lost_rows(0.003), "1 % of rows lost": lost_rows(0.01),
    "3 % of rows lost": lost_rows(0.03), "doubled rows": doubled_rows(0.01), "swapped rows": swapped_rows(0.005),
    "late stamps": jitter(0.15), "steps of 0.06 deg/s": coarse(0.06),
}  # fmt: skip
RATES = {f"at {hz:g} Hz": at_rate(hz) for hz in (500, 800, 960, 990, 1000, 1600)}
WORSE: dict[str, Damage] = {
    "1 % lost in bursts of 40": lost_rows(0.01, burst=40), "3 % lost in bursts of 120": lost_rows(0.03, burst=120),
    "steps of 1 deg/s": coarse(1.0), "clipped gyros": clipped(250.0), "at 250 Hz": at_rate(250), "at 333 Hz": at_rate(333),
    "no raw gyro": without("gyro_raw."), "no terms": without("term_", "command."), "no motors": without("motor."),
    "no throttle": without("throttle"), "no set-point": without("setpoint."), "no accelerometer": without("accel."),
}  # fmt: skip
