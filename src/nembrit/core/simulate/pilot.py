"""The scripted pilot: turns a flight card into stick and throttle movements with a person's scatter."""

import itertools
import math
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.setup.card import Card, Manoeuvre
from nembrit.core.types import AXES, BoolArray, FloatArray

_HAND_HZ = 2.2  # how fast a hand wanders
_RAMP_S = 0.07  # how long a hand takes to move a stick


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Sticks:
    """What the pilot does, at the loop rate."""

    stick: FloatArray  # (3, n), −1 to 1
    throttle: FloatArray  # (n,), 0 to 1
    is_on_ground: BoolArray  # (n,)
    steps_s: tuple[tuple[float, float], ...] = ()  # start and end of each of the card's manoeuvres


def fly_card(card: Card, *, hover_throttle: float, loop_rate_hz: float, rng: np.random.Generator) -> Sticks:
    """Fly every manoeuvre of the card in turn; the same generator state gives the same flight."""
    parts = [_fly(step, hover_throttle, loop_rate_hz, rng) for step in card.manoeuvres]
    stick = np.concatenate([part.stick for part in parts], axis=1)
    throttle = np.concatenate([part.throttle for part in parts])
    on_ground = np.concatenate([part.is_on_ground for part in parts])
    smooth = _ramp(loop_rate_hz)
    stick = scipy.signal.fftconvolve(stick, smooth[None, :], mode="full", axes=1)[:, : stick.shape[1]]
    throttle = scipy.signal.fftconvolve(throttle, smooth, mode="full")[: throttle.size]
    stick += _wander(stick.shape, loop_rate_hz, rng) * 0.02 * ~on_ground
    throttle += _wander((throttle.size,), loop_rate_hz, rng) * 0.008 * ~on_ground
    edges_s = np.cumsum([0.0, *(part.throttle.size / loop_rate_hz for part in parts)])
    steps_s = tuple((float(a), float(b)) for a, b in itertools.pairwise(edges_s))
    return Sticks(stick=np.clip(stick, -1, 1), throttle=np.clip(throttle, 0, 1), is_on_ground=on_ground, steps_s=steps_s)


def _ramp(loop_rate_hz: float) -> FloatArray:
    """Bell-shaped pulse of area 1: a hand starts and ends a movement gently."""
    n = max(3, round(_RAMP_S * loop_rate_hz))
    bell: FloatArray = np.hanning(n + 2)[1:-1]
    return np.asarray(bell / bell.sum())


def _wander(shape: tuple[int, ...], loop_rate_hz: float, rng: np.random.Generator) -> FloatArray:
    """Low-passed noise with a standard deviation of about 1."""
    sos = scipy.signal.butter(2, _HAND_HZ, fs=loop_rate_hz, output="sos")
    noise: FloatArray = scipy.signal.sosfilt(sos, rng.standard_normal(shape), axis=-1)
    return noise * math.sqrt(loop_rate_hz / 2 / (1.11 * _HAND_HZ))  # 1.11: noise bandwidth of a second-order Butterworth


def _fly(step: Manoeuvre, hover: float, loop_rate_hz: float, rng: np.random.Generator) -> Sticks:
    n = round(step.seconds * loop_rate_hz)
    t_s = np.arange(n) / loop_rate_hz
    stick = np.zeros((3, n))
    throttle = np.full(n, hover)
    ground = np.zeros(n, dtype=bool)
    size = step.size_ratio * float(np.exp(rng.normal(0, 0.04)))
    start_s = float(rng.uniform(0.25, 0.45))
    row = AXES.index(step.axis) if step.axis else 0
    sign = float(rng.choice((-1, 1)))
    if step.kind == "take_off":
        ground = t_s < 0.8
        throttle = np.where(t_s < 0.6, 0.0, np.where(t_s < 1.6, hover * 1.15, hover))
    elif step.kind == "touch_down":
        left_s = step.seconds - t_s
        throttle = np.where(left_s > 0.5, hover * 0.9, 0.0)
        ground = left_s < 0.45
    elif step.kind == "cruise":
        stick = _lively(n, loop_rate_hz, rng) * size
        throttle *= 1.06 + 0.06 * np.sin(2 * np.pi * 0.35 * t_s + rng.uniform(0, 6.28))
    elif step.kind == "turn":
        stick[1] = -0.35 * size
        stick[0] = size * np.sign(np.sin(2 * np.pi * 0.35 * t_s))
        stick[2] = 0.6 * size * np.sign(np.sin(2 * np.pi * 0.35 * t_s))
        throttle *= 1.5
    elif step.kind == "doublet":
        width_s = float(rng.uniform(0.18, 0.26))
        stick[row] = sign * size * (_between(t_s, start_s, width_s) - _between(t_s, start_s + width_s, width_s))
    elif step.kind == "snap_stop":
        throttle *= 1.1
        for repeat, direction in enumerate((sign, -sign)):
            begin_s = start_s + repeat * step.seconds / 2
            stick[row] += direction * size * _between(t_s, begin_s, float(rng.uniform(0.38, 0.46)))
    elif step.kind == "sweep":
        throttle = 0.25 + (size - 0.25) * t_s / step.seconds
    elif step.kind in ("punch", "full_throttle"):
        length_s = 1.0 if step.kind == "punch" else step.seconds - 1.0
        throttle = np.where(_between(t_s, start_s, length_s) > 0, min(1.0, size), hover)
    elif step.kind == "chop":
        throttle = np.where(t_s < start_s, 0.85, hover * 0.6)
    elif step.kind == "wash_descent":
        throttle = np.where(t_s < step.seconds - 0.6, hover * 0.62, hover * 1.25)
    elif step.kind == "zero_throttle":
        throttle = np.where(_between(t_s, 0.3, 1.0) > 0, 0.0, hover)
    return Sticks(stick=stick, throttle=throttle, is_on_ground=ground)


def _between(t_s: FloatArray, start_s: float, length_s: float) -> FloatArray:
    return ((t_s >= start_s) & (t_s < start_s + length_s)).astype(np.float64)


def _lively(n: int, loop_rate_hz: float, rng: np.random.Generator) -> FloatArray:
    """Stick positions that a hand jumps to and leaves again, on every axis, shape (3, n)."""
    stick = np.zeros((3, n))
    for row in range(3):
        at = 0
        while at < n:
            length = int(rng.uniform(0.12, 0.5) * loop_rate_hz)
            stick[row, at : at + length] = rng.normal(0, 0.6)
            at += length
    return stick
