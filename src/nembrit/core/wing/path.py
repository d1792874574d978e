"""A flight as a picture needs it: where the plane was, how it lay, and where its servos stood, a few times a second."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.setup.craft import Surface
from nembrit.core.types import FloatArray
from nembrit.core.wing.track import track_of

_HZ, _MOST = 5.0, 3000


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Path:
    """Series of one length; NaN where nothing was recorded. Angles in degrees, right, nose up and clockwise positive."""

    t_s: FloatArray
    series: dict[str, FloatArray]  # north_m, east_m, height_m, bank_deg, …: those that the log holds
    servos: dict[str, FloatArray]  # deflection as share of full travel, by the servo's number
    modes: tuple[str, ...]  # series["mode"] counts in these
    home_deg: tuple[float, float] | None
    home_is_known: bool


_ROLES = {
    "bank_wanted_deg": "attitude_wanted.roll", "pitch_deg": "attitude.pitch", "pitch_wanted_deg": "attitude_wanted.pitch",
}  # fmt: skip


def path_of(recording: Recording, surfaces: Sequence[Surface]) -> Path:
    """Thin a recording to five samples a second, or fewer for a flight beyond ten minutes. Raises NotEnoughData for nothing."""
    track = track_of(recording)
    n = track.t_s.size
    every = max(1, -(-n // _MOST))
    step = max(1, round(recording.sample_rate_hz / _HZ))

    def thin(role: str) -> FloatArray | None:
        values = recording.channels.get(role)
        return None if values is None else values[: n * step : step][::every]

    found: dict[str, FloatArray | None] = {
        "north_m": track.north_m, "east_m": track.east_m, "height_m": track.height_m, "height_wanted_m": track.height_wanted_m,
        "bank_deg": track.bank_deg, "cross_track_m": track.cross_track_m, "ground_speed_m_s": track.ground_speed_m_s,
        "airspeed_m_s": track.airspeed_m_s, "throttle": track.throttle, "mode": track.mode,
    }  # fmt: skip
    series = {name: values[::every] for name, values in found.items() if values is not None and np.isfinite(values).any()}
    for name, role in _ROLES.items():
        values = thin(role)
        if values is not None and np.isfinite(values).any():
            series[name] = values
    servos = {}
    for one in surfaces:
        pulses = thin(f"servo.{one.servo}")
        if pulses is not None:
            servos[str(one.servo)] = np.asarray((one.direction or 1) * (pulses - one.centre_us) / one.throw_us)
    if not series and not servos:
        raise NotEnoughData("this log has neither positions nor attitude")
    return Path(
        t_s=track.t_s[::every], series=series, servos=servos, modes=track.modes, home_deg=track.home_deg,
        home_is_known=track.home_is_known,
    )  # fmt: skip
