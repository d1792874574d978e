"""Random craft, controllers and faults for accuracy runs: sizes, gains, filters, wind and records all vary."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy.signal

from nembrit.core.records.log import Recording
from nembrit.core.setup.card import Card
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.simulate.airframe import Airframe, Faults, World, airframe_of, vary
from nembrit.core.simulate.flight import _sections, fly
from nembrit.core.types import AXES

CAUSES = (
    "clean", "loose_mount", "frame_resonance", "propeller", "bearing", "electrical_spikes", "noisy_axis",
    "d_noise", "p_high", "i_low", "filters_low", "idle_low",
)  # fmt: skip
_FRAMES = [("quad", 5.0), ("hex", 6.0), ("quad", 3.0), ("octo", 8.0), ("quad", 7.0)]


@dataclass(frozen=True, kw_only=True)
class FaultCase:
    """One flight of one random craft with one thing wrong, or nothing."""

    cause: str
    axis: str | None
    motor: int | None
    craft: Craft
    recording: Recording
    resonance_hz: tuple[float, float, float]


def random_airframe(rng: np.random.Generator) -> tuple[Craft, Airframe]:
    layout, diameter_in = _FRAMES[int(rng.integers(len(_FRAMES)))]
    craft = Craft(name="random", kind="multirotor", motors=layout_motors(layout), diameter_in=diameter_in)
    airframe = vary(airframe_of(craft), rng, spread_ratio=0.15)
    offset = rng.normal(0, 0.006, 2)
    if rng.random() < 0.15:
        offset *= 4  # a pack strapped on out of place
    return craft, replace(
        airframe,
        balance_offset=(float(offset[0]), float(offset[1])),
        imbalance=tuple(float(value) for value in np.exp(rng.normal(0, 0.25, len(craft.motors)))),
        gyro_density_dps_rthz=airframe.gyro_density_dps_rthz * float(np.exp(rng.normal(0, 0.3))),
        broadband_dps=airframe.broadband_dps * float(np.exp(rng.normal(0, 0.25))),
        resonance_gain=tuple(float(gain * np.exp(rng.normal(0, 0.3))) for gain in airframe.resonance_gain),
    )


def sound_controller(airframe: Airframe, rng: np.random.Generator) -> Controller:
    """Gains that suit the craft's authority, scattered as tuners scatter them."""
    scale, lag = 38_000 / airframe.authority_dps2[0], airframe.motor_lag_s / 0.018

    def gains(p: float, i: float, d: float, f: float) -> AxisGains:
        wide = np.exp(rng.normal(0, 0.15, 4))
        return AxisGains(p=p * scale / lag * wide[0], i=i * scale * wide[1], d=d * scale * wide[2], f=f * scale * wide[3])

    has_notches = rng.random() < 0.5
    gyro = [Filter(kind="lowpass_2", frequency_hz=float(rng.uniform(130, 260)))]
    if has_notches:
        gyro.append(Filter(kind="rotor_notch", frequency_hz=80.0, q=5.0, orders=(1, 2), blend_hz=30.0))
    return _steadied(
        airframe,
        Controller(
            loop_rate_hz=4000.0,
            gains={
                "roll": gains(0.0021, 0.008, 3.4e-5, 1e-5),
                "pitch": gains(0.0025, 0.009, 4e-5, 1e-5),
                "yaw": gains(0.006, 0.016, 0, 0),
            },
            chip=(Filter(kind="lowpass_2", frequency_hz=550),),
            gyro=tuple(gyro),
            d_term=(Filter(kind="lowpass_2", frequency_hz=float(rng.uniform(85, 150))),),
            idle=float(rng.uniform(0.03, 0.08)),
        ),
        float(rng.uniform(1.3, 1.7)),
    )


def sensitivity_peak(airframe: Airframe, controller: Controller, axis: str) -> float:
    """Ms of the true loop at hover: what makes a P gain high is the craft, not the number."""
    return float(np.abs(1 / (1 + true_open_loop(airframe, controller, axis)[1])).max())


def true_open_loop(airframe: Airframe, controller: Controller, axis: str) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies [Hz] and the open loop of one axis at hover, from what the airframe is."""
    frequency_hz = np.geomspace(1.0, 400.0, 600)
    s = 2j * np.pi * frequency_hz
    row, rate_hz = AXES.index(axis), controller.loop_rate_hz
    slope = 1.6 * airframe.hover_throttle**0.6
    plant = airframe.authority_dps2[row] * slope / (s + airframe.damping_per_s[row]) / (1 + s * airframe.motor_lag_s)
    if axis == "yaw":
        plant = plant * (1 + s * airframe.yaw_zero_s)
    plant = plant * np.exp(-s * (airframe.motor_delay_s + 1.5 / rate_hz))

    def through(filters: tuple[Filter, ...]) -> np.ndarray:
        sos = _sections(filters, rate_hz)
        return scipy.signal.sosfreqz(sos, frequency_hz, fs=rate_hz)[1] if len(sos) else np.ones(frequency_hz.size)

    gains, gyro = controller.gains[axis], through(controller.chip) * through(controller.gyro)
    return frequency_hz, plant * gyro * (gains.p + gains.i / s + gains.d * s * through(controller.d_term))


def _steadied(airframe: Airframe, controller: Controller, wanted: float) -> Controller:
    """Roll and pitch gains scaled so that the loop is as steady as wanted; no tuner drives a lazy craft to its limit."""
    most = 1.5
    gains = dict(controller.gains)
    for axis in AXES[:2]:
        scale = _scale_to(
            lambda f, axis=axis: sensitivity_peak(airframe, _with(controller, axis, p=f, i=f, d=f, f=f), axis), wanted, most
        )
        gains[axis] = _with(controller, axis, p=scale, i=scale, d=scale, f=scale).gains[axis]
    yaw = min(1.0, _scale_to(lambda f: sensitivity_peak(airframe, _with(controller, "yaw", p=f, i=f), "yaw"), 1.5))
    gains["yaw"] = _with(controller, "yaw", p=yaw, i=yaw).gains["yaw"]
    return replace(controller, gains=gains)


def _with(controller: Controller, axis: str, **factors: float) -> Controller:
    gain = controller.gains[axis]
    changed = replace(gain, **{key: getattr(gain, key) * factor for key, factor in factors.items()})
    return replace(controller, gains={**controller.gains, axis: changed})


def _scale_to(peak_of: Callable[[float], float], wanted: float, most: float = 8.0) -> float:
    """The smallest factor from 0.2 on at which the sensitivity peak passes what is wanted."""
    for factor in np.geomspace(0.2, most, 60):
        if peak_of(float(factor)) > wanted:
            return float(factor)
    return most


def _wrong_controller(cause: str, airframe: Airframe, controller: Controller, rng: np.random.Generator) -> Controller:
    """The same controller mistuned as `cause` says; for causes of the craft itself, unchanged."""

    def times(**factors: float) -> dict[str, AxisGains]:
        return {
            axis: replace(gain, **{key: getattr(gain, key) * factor for key, factor in factors.items()})
            for axis, gain in controller.gains.items()
        }

    if cause == "d_noise":
        opened = (Filter(kind="lowpass_1", frequency_hz=float(rng.uniform(350, 500))),)
        return replace(controller, gains=times(d=float(rng.uniform(2.0, 3.0))), d_term=opened)
    if cause == "p_high":
        wanted = float(rng.uniform(3.5, 6.0))
        for axis in AXES[:2]:
            factor = _scale_to(
                lambda f, axis=axis, old=controller: sensitivity_peak(airframe, _with(old, axis, p=f), axis), wanted
            )
            controller = _with(controller, axis, p=factor)
        return controller
    if cause == "i_low":
        return replace(controller, gains=times(i=float(rng.uniform(0.02, 0.1))))
    if cause == "idle_low":
        return replace(controller, idle=float(rng.uniform(0.001, 0.005)))  # propellers nearly stop
    if cause == "filters_low":
        low = float(rng.uniform(36, 55))
        slow = replace(
            controller,
            gyro=(Filter(kind="lowpass_2", frequency_hz=low),),
            d_term=(Filter(kind="lowpass_2", frequency_hz=low * 1.3),),
        )
        peak = max(sensitivity_peak(airframe, slow, axis) for axis in AXES[:2])
        return _steadied(airframe, slow, 4.0) if peak > 4.0 else slow  # nobody keeps flying a craft that shakes itself apart
    return controller


def _faults(cause: str, n_motors: int, rng: np.random.Generator) -> tuple[Faults, str | None, int | None]:
    motor, axis = int(rng.integers(1, n_motors + 1)), AXES[int(rng.integers(3))]
    if cause == "loose_mount":
        return Faults(loose_mount=float(rng.uniform(0.7, 1.2)), loose_mount_hz=float(rng.uniform(50, 80))), None, None
    if cause == "frame_resonance":
        return Faults(resonance_factor=float(rng.uniform(5, 9))), None, None
    if cause == "propeller":
        return Faults(propeller_motor=motor, propeller_factor=float(rng.uniform(5, 8))), None, motor
    if cause == "bearing":
        return Faults(bearing_motor=motor, bearing_dps=float(rng.uniform(8, 14))), None, motor
    if cause == "electrical_spikes":
        return Faults(spike_axis=axis, spike_dps=float(rng.uniform(150, 300))), axis, None
    if cause == "noisy_axis":
        return Faults(noisy_axis=axis, noisy_factor=float(rng.uniform(4.5, 8))), axis, None
    return Faults(), None, None


def _card(key: str) -> Card:
    """The card; the full one with two more floats, so that idle can be judged."""
    card = next(one for one in CARDS if one.key == key)
    if key != "full":
        return card
    floats = [step for step in card.manoeuvres if step.kind == "zero_throttle"]
    return replace(card, manoeuvres=(*card.manoeuvres[:-1], floats[0], card.manoeuvres[1], floats[0], card.manoeuvres[-1]))


def _lively(card: Card) -> Card:
    """The same card flown with big stick movements."""
    return replace(
        card,
        manoeuvres=tuple(replace(step, size_ratio=min(1.0, 1.6 * step.size_ratio)) for step in card.manoeuvres),
    )


def fault_case(seed: int, cause: str, *, card: str | None = None, wind_m_s: float | None = None, flavour: str = "") -> FaultCase:
    """Fly one random craft with one cause; the same seed gives the same flight.

    `flavour` is calm, windy, lively or offset for sound craft that are hard to tell from faulty ones.
    """
    rng = np.random.default_rng(seed)
    craft, airframe = random_airframe(rng)
    if flavour == "offset":
        airframe = replace(airframe, balance_offset=(0.03, -0.025))
    controller = sound_controller(airframe, rng)
    faults, axis, motor = _faults(cause, len(craft.motors), rng)
    controller = _wrong_controller(cause, airframe, controller, rng)
    wind = float(rng.uniform(0, 7)) if wind_m_s is None else wind_m_s
    wind = {"calm": 0.0, "windy": 9.0}.get(flavour, wind)
    key = card or ("full" if rng.random() < 0.8 else "response")
    has_speeds = rng.random() < 0.8
    if cause == "idle_low":  # nothing tells of it in other logs, and they say so
        key, has_speeds = "full", True
    flight = fly(
        craft,
        controller,
        _lively(_card(key)) if flavour == "lively" else _card(key),
        World(seed=seed, wind_m_s=wind, faults=faults),
        airframe=airframe,
    )
    channels = {role: values for role, values in flight.channels.items() if has_speeds or not role.startswith("motor_rpm")}
    if rng.random() < 0.3:
        channels = {role: values for role, values in channels.items() if not role.startswith("accel")}
    whole = Recording.of(channels, sample_rate_hz=2000.0)
    part = whole.span(2.5, float(flight.t_s[-1]) - 2.0)
    return FaultCase(cause=cause, axis=axis, motor=motor, craft=craft, recording=part, resonance_hz=airframe.resonance_hz)
