"""A low-pass filter of coil and capacitor for video or receiver power."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

# IEC 60063:2015, E6 and E12
E6, E12 = (1.0, 1.5, 2.2, 3.3, 4.7, 6.8), (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2)
_WARM_K_PER_W = 60.0  # of a small coil in still air (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerFilter:
    """What the filter does to noise and supply."""

    cutoff_hz: float
    q: float  # above about 0.7 it rings at its cutoff
    peak_db: float  # highest gain: more than 0 makes noise there worse
    noise_db: float  # at the noise frequency; negative: less noise
    ripple_v: float | None  # what is left of the ripple at that frequency
    drop_v: float  # over the coil, at the load current
    coil_w: float
    coil_warmer_k: float
    inrush_a: float  # at most, when plugged in
    frequency_hz: FloatArray
    gain_db: FloatArray
    notes: tuple[str, ...]


def power_filter(
    *, inductance_h: float, capacitance_f: float, coil_ohm: float, capacitor_ohm: float, load_a: float, supply_v: float,
    noise_hz: float, ripple_v: float | None = None, coil_rated_a: float | None = None,
) -> PowerFilter:  # fmt: skip
    """A coil in series with the supply, a capacitor with its resistance across the load, the load as a resistor.

    With Z the capacitor and its series resistance beside the load R = V/I, the gain is Z/(Z + r + sL), a voltage divider
    (P. Horowitz and W. Hill, *The Art of Electronics*, 3rd ed. 2015, sections 1.7 and 9.5). The cutoff is 1/(2π√(LC)); Q is
    √(L/C) over the resistances in series, r + R_c + L/(C·R). Inrush is at most V/√(L/C), where nothing damps it. The coil's
    heat is I²·r, with 60 K/W for a small one in still air (common practice, no source). Raises InputError for what cannot be.
    """
    values = {"inductance": (inductance_h, 1e-9, 1.0), "capacitance": (capacitance_f, 1e-12, 1.0),
              "load current": (load_a, 1e-3, 100.0),
              "supply voltage": (supply_v, 0.5, 100.0), "noise frequency": (noise_hz, 1.0, 1e9)}  # fmt: skip
    for name, (value, low, high) in values.items():
        if not low <= value <= high:
            raise InputError(f"{name}: expected {low:g} to {high:g}, got {value:g}")
    if not 0 <= coil_ohm <= 100 or not 0 <= capacitor_ohm <= 100:
        raise InputError("resistances go from 0 to 100 Ω")
    load_ohm = supply_v / load_a
    cutoff = 1 / (2 * math.pi * math.sqrt(inductance_h * capacitance_f))
    wave_ohm = math.sqrt(inductance_h / capacitance_f)
    q = wave_ohm / max(coil_ohm + capacitor_ohm + wave_ohm**2 / load_ohm, 1e-9)
    hz = np.geomspace(cutoff / 100, cutoff * 1000, 601)
    gain = 20 * np.log10(np.abs(_gain(hz, inductance_h, capacitance_f, coil_ohm, capacitor_ohm, load_ohm)))
    at = abs(_gain(np.array([noise_hz]), inductance_h, capacitance_f, coil_ohm, capacitor_ohm, load_ohm)[0])
    noise_db = 20 * math.log10(at)
    heat = load_a**2 * coil_ohm
    notes = []
    peak = float(gain.max())
    if peak > 3:
        notes.append(f"It rings: noise near {cutoff:.3g} Hz grows by {peak:.0f} dB. Take a capacitor with more resistance")
    if noise_db > -6:
        notes.append(f"It hardly helps at {noise_hz:.3g} Hz: the cutoff must lie a third of that or lower")
    if coil_rated_a is not None and load_a > coil_rated_a:
        notes.append(f"The coil is rated {coil_rated_a:g} A and carries {load_a:g} A: it saturates and gets hot")
    if heat * _WARM_K_PER_W > 40:
        notes.append(f"The coil gets {heat * _WARM_K_PER_W:.0f} K warmer: take one with less resistance")
    return PowerFilter(
        cutoff_hz=cutoff, q=q, peak_db=peak, noise_db=noise_db, ripple_v=None if ripple_v is None else ripple_v * at,
        drop_v=load_a * coil_ohm, coil_w=heat, coil_warmer_k=heat * _WARM_K_PER_W, inrush_a=supply_v / wave_ohm,
        frequency_hz=hz, gain_db=gain, notes=tuple(notes),
    )  # fmt: skip


def _gain(hz: FloatArray, coil: float, capacitor: float, coil_ohm: float, capacitor_ohm: float, load_ohm: float) -> FloatArray:
    s = 2j * np.pi * hz
    shunt = 1 / (1 / (capacitor_ohm + 1 / (s * capacitor)) + 1 / load_ohm)
    return np.asarray(shunt / (shunt + coil_ohm + s * coil))


def series_values(low: float, high: float, series: Sequence[float] = E6) -> tuple[float, ...]:
    """The standard values of an E series from `low` to `high` (IEC 60063).

    >>> series_values(9e-6, 50e-6)
    (1e-05, 1.5e-05, 2.2e-05, 3.3e-05, 4.7e-05)
    """
    if not 0 < low <= high:
        raise InputError("the lower end must be above 0 and not beyond the upper")
    decades = range(math.floor(math.log10(low)) - 1, math.floor(math.log10(high)) + 2)
    found = (float(f"{value}e{decade}") for decade in decades for value in series)
    return tuple(value for value in found if low * (1 - 1e-9) <= value <= high * (1 + 1e-9))


@dataclass(frozen=True, slots=True, kw_only=True)
class Pick:
    """A coil and a capacitor of standard values."""

    inductance_h: float
    capacitance_f: float
    cutoff_hz: float
    noise_db: float
    q: float


def pick_parts(
    *, noise_hz: float, wanted_db: float, coil_ohm: float, capacitor_ohm: float, load_a: float, supply_v: float, most: int = 5
) -> tuple[Pick, ...]:
    """Pairs of E6 values that lower the noise by at least `wanted_db` and hardly ring (Q up to 1), the smallest parts first.

    Size is judged by the energy that the parts hold, L·I² + C·V². Empty where nothing from 1 to 470 µH and 10 to 2200 µF does it.
    """
    found = []
    for coil in series_values(1e-6, 470e-6):
        for capacitor in series_values(10e-6, 2200e-6):
            one = power_filter(
                inductance_h=coil, capacitance_f=capacitor, coil_ohm=coil_ohm, capacitor_ohm=capacitor_ohm, load_a=load_a,
                supply_v=supply_v, noise_hz=noise_hz,
            )  # fmt: skip
            if one.noise_db <= -wanted_db and one.q <= 1.0:
                size = coil * load_a**2 + capacitor * supply_v**2
                found.append((size, Pick(inductance_h=coil, capacitance_f=capacitor, cutoff_hz=one.cutoff_hz,
                                         noise_db=one.noise_db, q=one.q)))  # fmt: skip
    return tuple(pick for _, pick in sorted(found, key=lambda pair: pair[0])[:most])
