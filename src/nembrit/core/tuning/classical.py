"""Classical tuning rules, as a comparison for those who like them: P gains by rule beside the flown one."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.tuning.flown import flown_loop
from nembrit.core.types import FloatArray

_FILTERS_AT_HZ, _LEAST_DELAY_S = 10.0, 0.001


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One rule's P gain [share per deg/s]; None where the loop never turns round."""

    name: str
    p: float | None
    source: str


def integrating_rules(gain: float, delay_s: float) -> dict[str, float]:
    """P of rules for k·e^(−sθ)/s, k `gain` per second.

    SIMC with τc = θ: 1/(2 k θ) (S. Skogestad, J. Process Control 13 (2003) 291-309; Ms 1.70 for an integrating process).
    AMIGO PI: 0.35/(k θ) (K. J. Åström & T. Hägglund, J. Process Control 14 (2004) 635-650; from memory).

    >>> integrating_rules(2.0, 0.1)
    {'SIMC': 2.5, 'AMIGO': 1.7499999999999998}
    """
    return {"SIMC": 1 / (2 * gain * delay_s), "AMIGO": 0.35 / (gain * delay_s)}


def ultimate_rules(gain: float) -> dict[str, float]:
    """P of rules that rest on the gain at which a P controller alone would swing.

    Ziegler–Nichols PID 0.6 Ku (Trans. ASME 64 (1942) 759-768), Tyreus–Luyben PID Ku/2.2 (Ind. Eng. Chem. Res. 31 (1992)
    2625-2628). On 1/(s+1)³, Ku 8: 4.8 and 3.6364.

    >>> ultimate_rules(8.0)
    {'Ziegler–Nichols': 4.8, 'Tyreus–Luyben': 3.6363636363636362}
    """
    return {"Ziegler–Nichols": 0.6 * gain, "Tyreus–Luyben": gain / 2.2}


def classical_gains(found: AxisLoop) -> tuple[Rule, ...]:
    """What rules would say for one axis's craft with its filters, taken as k·e^(−sθ)/(s + damping).

    The integrating ones hold for that, too: their P for a slow first-order process is the same. θ by Skogestad's half rule: the
    craft's delay, that of the gyro filters at 10 Hz, and half of the motors' lag. None of them where the craft leads instead of
    lagging, as yaw does while its motors speed up.
    """
    parts, plant = flown_loop(found), found.plant
    hz = parts.frequency_hz
    at = int(np.searchsorted(hz, _FILTERS_AT_HZ))
    filters_s = -float(np.angle(parts.ahead[at] / plant.response(hz[at : at + 1])[0])) / (2 * np.pi * hz[at])
    delay_s = plant.delay_s + max(filters_s, 0.0) + plant.lag_s / 2 - plant.lead_s
    is_late = delay_s > _LEAST_DELAY_S
    rules = integrating_rules(plant.gain, delay_s) if is_late else {"SIMC": None, "AMIGO": None}
    ultimate = _ultimate(np.abs(parts.ahead), np.unwrap(np.angle(parts.ahead)))
    swung = (
        ultimate_rules(ultimate) if ultimate and delay_s > _LEAST_DELAY_S else {"Ziegler–Nichols": None, "Tyreus–Luyben": None}
    )
    sources = {
        "SIMC": "Skogestad 2003", "AMIGO": "Åström & Hägglund 2004", "Ziegler–Nichols": "Ziegler & Nichols 1942",
        "Tyreus–Luyben": "Tyreus & Luyben 1992",
    }  # fmt: skip
    return tuple(Rule(name=name, p=value, source=sources[name]) for name, value in (*rules.items(), *swung.items()))


def _ultimate(size: FloatArray, phase: FloatArray) -> float | None:
    """The gain at which a P controller alone would oscillate: where the phase falls through −180°, between two frequencies."""
    under = np.flatnonzero(phase <= -np.pi)
    if not under.size or not under[0]:
        return None
    k = int(under[0])
    share = (phase[k - 1] + np.pi) / (phase[k - 1] - phase[k])
    return float(np.exp(-np.interp(share, (0, 1), np.log(size[[k - 1, k]]))))
