"""A rate loop closed around a rigid-body multirotor with rotor dynamics that nobody here wrote (`rotorpy`, for tests only).

The library holds the physics: rigid body, rotors with a lag and with drag, translational lift, wind. Ours are the controller,
the gyro's noise and the pilot. Truth is the same model's answer to a small multi-sine without wind and noise.
"""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from rotorpy.vehicles.multirotor import Multirotor

from nembrit.core.filters.chain import chain_sos
from nembrit.core.filters.sections import FilterSection
from nembrit.core.records.log import Recording
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.types import AXES, ComplexArray, FloatArray

RATE_HZ = 1000.0
SIGNS = np.array([[1.0, 1.0, 1.0], [-1.0, 1.0, -1.0], [-1.0, -1.0, 1.0], [1.0, -1.0, -1.0]])  # right, nose up, clockwise
_BODY = np.array([1.0, -1.0, -1.0])  # the library's z is up and its y to the left: nose up and clockwise turn round


@dataclass(frozen=True, kw_only=True)
class Model:
    """Sizes of one craft; everything else goes with them."""

    arm_m: float = 0.12
    mass_kg: float = 0.55
    inertia: tuple[float, float, float] = (2.4e-3, 3.1e-3, 4.6e-3)
    motor_lag_s: float = 0.022
    thrust_n_s2: float = 1.5e-6
    top_rad_s: float = 2600.0
    gains: tuple[AxisGains, ...] = (
        AxisGains(p=0.0012, i=0.004, d=0.000022, f=0.000006),
        AxisGains(p=0.0015, i=0.005, d=0.000028, f=0.000008),
        AxisGains(p=0.004, i=0.010, d=0.0, f=0.0),
    )
    filters: dict[str, tuple[Filter, ...]] = field(
        default_factory=lambda: {
            "gyro": (Filter(kind="lowpass_2", frequency_hz=120.0),),
            "d_term": (Filter(kind="lowpass_1", frequency_hz=90.0),),
            "feed_forward": (Filter(kind="lowpass_1", frequency_hz=25.0),),
        }
    )

    @property
    def controller(self) -> Controller:
        return Controller(loop_rate_hz=RATE_HZ, gains=dict(zip(AXES, self.gains, strict=True)), **self.filters)


class _Filters:
    """One chain for three axes, sample by sample."""

    def __init__(self, filters: tuple[Filter, ...]) -> None:
        sections = [FilterSection(kind=one.kind, frequency_hz=one.frequency_hz, q=one.q) for one in filters]
        self.sos = chain_sos(sections, sample_rate_hz=RATE_HZ)
        self.state = np.zeros((len(self.sos), 2, 3))

    def __call__(self, x: FloatArray) -> FloatArray:
        for (b0, b1, b2, _, a1, a2), z in zip(self.sos, self.state, strict=True):
            y = b0 * x + z[0]
            z[0] = b1 * x - a1 * y + z[1]
            z[1] = b2 * x - a2 * y
            x = y
        return x


def _vehicle(model: Model) -> Multirotor:
    # motors as in the mixer: front left, front right, back right, back left, seen from above with x ahead and y left
    places = model.arm_m * np.array([[1, 1, 0], [1, -1, 0], [-1, -1, 0], [-1, 1, 0]]) / np.sqrt(2)
    ixx, iyy, izz = model.inertia
    sizes = {
        "mass": model.mass_kg, "Ixx": ixx, "Iyy": iyy, "Izz": izz, "Ixy": 0.0, "Iyz": 0.0, "Ixz": 0.0, "num_rotors": 4,
        "rotor_radius": 0.065, "rotor_pos": {f"r{k + 1}": place for k, place in enumerate(places)},
        "rotor_directions": np.array([-1, 1, -1, 1]), "rI": np.zeros(3), "c_Dx": 0.01, "c_Dy": 0.01, "c_Dz": 0.02,
        "k_eta": model.thrust_n_s2, "k_m": 0.016 * model.thrust_n_s2, "k_d": 3e-5, "k_z": 6e-5, "k_h": 1e-3, "k_flap": 0.0,
        "tau_m": model.motor_lag_s, "rotor_speed_min": 0.0, "rotor_speed_max": model.top_rad_s, "motor_noise_std": 0.0,
    }  # fmt: skip
    return Multirotor(sizes, aero=True)


def fly(model: Model, setpoint_dps: FloatArray, *, seed: int | None, throttle_ratio: float = 0.35) -> Recording:
    """Fly wanted rates [deg/s], shape (3, n), held level by the pilot; without a seed neither wind nor noise nor pilot, and the
    throttle stays."""
    rng, vehicle = np.random.default_rng(seed or 0), _vehicle(model)
    hover_rad_s = float(np.sqrt(model.mass_kg * 9.81 / 4 / model.thrust_n_s2))
    hover = hover_rad_s / model.top_rad_s
    rest = {"x": np.zeros(3), "v": np.zeros(3), "q": np.array([0.0, 0.0, 0.0, 1.0]), "w": np.zeros(3), "wind": np.zeros(3)}
    state = Multirotor._pack_state(
        {**rest, "rotor_speeds": np.full(4, hover_rad_s if seed is not None else throttle_ratio * model.top_rad_s)}
    )
    gains = np.array([[own.p, own.i, own.d, own.f] for own in model.gains]).T
    gyro, d_term, forward = (_Filters(model.filters[place]) for place in ("gyro", "d_term", "feed_forward"))
    n, dt = setpoint_dps.shape[1], 1 / RATE_HZ
    integral, last_d, last_wanted, wind = np.zeros(3), np.zeros(3), np.zeros(3), np.zeros(3)
    rows = np.zeros((n, 27))
    for k in range(n):
        x, y, z, w = state[6:10]
        rate_dps = np.degrees(state[10:13]) * _BODY
        level = np.array([2 * (w * x + y * z), -2 * (w * y - x * z), 0.0]) * np.degrees(1.0)
        wanted = setpoint_dps[:, k] - (1.5 * level if seed is not None else 0.0)
        raw = rate_dps + (rng.standard_normal(3) * 1.2 if seed is not None else 0.0)
        filtered = gyro(raw)
        error = wanted - filtered
        integral = np.clip(integral + gains[1] * error * dt, -0.25, 0.25)
        smooth = d_term(filtered)
        terms = np.stack(
            [gains[0] * error, integral, -gains[2] * (smooth - last_d) / dt, gains[3] * forward((wanted - last_wanted) / dt)]
        )
        last_d, last_wanted = smooth, wanted
        command = np.clip(terms.sum(axis=0), -0.5, 0.5)
        throttle = (
            float(np.clip(hover + 0.06 * (0.0 - state[2]) - 0.05 * state[5], 0.15, 0.8)) if seed is not None else throttle_ratio
        )
        motors = np.clip(throttle + SIGNS @ command, 0.0, 1.0)
        if seed is not None:
            wind += dt * (-wind / 0.8) + np.sqrt(2 * dt / 0.8) * 1.5 * rng.standard_normal(3)
            state[13:16] = wind
        asked = motors * model.top_rad_s
        half = state + 0.5 * dt * vehicle._s_dot_fn(0.0, state, asked)
        rows[k] = np.concatenate((raw, filtered, wanted, terms.ravel(), motors, [throttle], [0.0]))
        state = state + dt * vehicle._s_dot_fn(0.0, half, asked)
        state[6:10] /= np.linalg.norm(state[6:10])
    names = [f"{family}.{axis}" for family in ("gyro_raw", "gyro", "setpoint") for axis in AXES]
    names += [f"term_{term}.{axis}" for term in "pidf" for axis in AXES] + [f"motor.{m}" for m in range(1, 5)] + ["throttle"]
    channels = {name: rows[:, k].copy() for k, name in enumerate(names)}
    channels |= {f"stick.{axis}": channels[f"setpoint.{axis}"] / 600 for axis in AXES}
    return Recording.of(channels, sample_rate_hz=RATE_HZ)


@lru_cache(maxsize=4)
def flown(seed: int, seconds: float = 24.0) -> tuple[Model, Recording]:
    """Half a minute of weaving with quick sticks on all axes."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE_HZ)
    steps = rng.uniform(-1, 1, (3, n // 180 + 2)) * np.array([[150.0], [150.0], [70.0]])
    held = np.repeat(steps * (rng.random(steps.shape) < 0.7), 180, axis=1)[:, :n]
    kernel = np.hanning(90) / np.hanning(90).sum()
    model = Model()
    return model, fly(model, np.stack([np.convolve(axis, kernel, "same") for axis in held]), seed=seed)


def truth(model: Model, axis: int, throttle_ratio: float) -> tuple[FloatArray, ComplexArray]:
    """Frequencies and open loop of one axis at a throttle, from a small multi-sine of two seconds."""
    bins = np.unique(np.round(np.geomspace(1, 250, 60)).astype(int))
    t_s = np.arange(int(3 * RATE_HZ)) / RATE_HZ
    phases = np.random.default_rng(3).uniform(0, 6.28, bins.size)
    wave = np.sum([2.0 / np.sqrt(k) * np.sin(np.pi * k * t_s + p) for k, p in zip(bins, phases, strict=True)], axis=0)
    setpoint = np.zeros((3, t_s.size))
    setpoint[axis] = wave
    found = fly(model, setpoint, seed=None, throttle_ratio=throttle_ratio)
    part = {role: np.fft.rfft(values[-int(2 * RATE_HZ) :])[bins] for role, values in found.channels.items()}
    name = AXES[axis]
    error = part[f"setpoint.{name}"] - part[f"gyro.{name}"]
    feedback = (part[f"term_p.{name}"] + part[f"term_i.{name}"]) / error - part[f"term_d.{name}"] / part[f"gyro.{name}"]
    command = sum(part[f"term_{term}.{name}"] for term in "pidf")
    return bins / 2, part[f"gyro.{name}"] / command * feedback
