"""What a small recorder sees of a flight: gyro, horizon, compass, position with its lag, pitot and barometer."""

import math
from dataclasses import dataclass

from nembrit.core.simulate.plane.airframe import PlaneFaults
from nembrit.core.simulate.plane.autopilot import Seen

_GPS_LAG_S, _PITOT_LAG_S, _BARO_LAG_S = 0.3, 0.3, 0.2
_FIX_HZ, _GAP_S, _BARO_DRIFT_S = 5.0, 2.0, 600.0
_HORIZON_DEG, _HORIZON_S = 0.2, 10.0
_DRIFT_M, _DRIFT_S = 1.2, 40.0  # of position and of the barometer


@dataclass(slots=True)
class Sensors:
    """Lags and drifts, carried from step to step; `noise` of a step: twelve standard normal numbers."""

    faults: PlaneFaults
    dt: float
    airspeed: float
    ground: tuple[float, float]
    height: float
    tilt: float = 0.0
    place: tuple[float, float] = (0.0, 0.0)
    drift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    fix: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)  # speed, course, north, east as last sent
    step: int = 0
    blind_s: float = 0.0  # for how long no fix comes

    def see(self, x: list[float], ground: tuple[float, float, float], airspeed: float, noise: list[float]) -> Seen:
        """One step: `x` the state, `ground` the velocity to north, east and up [m/s]."""
        dt = self.dt
        keep = 1 - dt / _HORIZON_S
        self.tilt = keep * self.tilt + math.radians(_HORIZON_DEG) * math.sqrt(1 - keep * keep) * noise[0]
        keep = 1 - dt / _DRIFT_S
        size = _DRIFT_M * math.sqrt(1 - keep * keep)
        first, second, third = self.drift
        self.drift = (keep * first + size * noise[1], keep * second + size * noise[2], keep * third + size * noise[3])
        share = dt / _GPS_LAG_S
        north, east = self.ground
        self.ground = (north + (ground[0] - north) * share, east + (ground[1] - east) * share)
        there = self.place
        self.place = (there[0] + (x[9] - there[0]) * share, there[1] + (x[10] - there[1]) * share)
        self.airspeed += (airspeed - self.airspeed) * dt / _PITOT_LAG_S
        self.height += (x[11] - self.height) * dt / _BARO_LAG_S
        if self.faults.gps_gap_ratio and self.blind_s <= 0 and noise[11] > 0:
            # a gap begins often enough that gaps make up their share
            begins = self.faults.gps_gap_ratio / (1 - self.faults.gps_gap_ratio) * dt / _GAP_S
            self.blind_s = _GAP_S if 0.5 * math.erfc(noise[11] / math.sqrt(2)) < begins else 0.0
        self.blind_s -= dt
        if self.blind_s <= 0 and self.step % round(1 / (_FIX_HZ * dt)) == 0:
            north, east = self.ground[0] + 0.1 * noise[4], self.ground[1] + 0.1 * noise[5]
            self.fix = (
                math.hypot(north, east), math.atan2(east, north), self.place[0] + self.drift[0], self.place[1] + self.drift[1],
            )  # fmt: skip
        self.step += 1
        return Seen(
            bank=x[6] + self.tilt + math.radians(self.faults.tilt_deg), pitch=x[7],
            rates=(x[3] + 0.01 * noise[6], x[4] + 0.009 * noise[7], x[5] + 0.007 * noise[8]),
            course=self.fix[1], heading=x[8], speed_m_s=self.fix[0],
            airspeed_m_s=self.airspeed * self.faults.pitot_ratio + self.faults.pitot_offset_m_s + 0.15 * noise[9],
            height_m=self.height + 0.8 * self.drift[2] + 0.1 * noise[10]
            + self.faults.baro_drift_m * self.step * dt / _BARO_DRIFT_S, climb_m_s=ground[2],
            north_m=self.fix[2], east_m=self.fix[3],
        )  # fmt: skip
