"""Wind and pull from flights of a flight-dynamics model that nobody here wrote.

Outside check: JSBSim 1.3.3 (six degrees of freedom, its own light single); wing leveller and course follower are written here,
wind, gusts and rudder offset are what the test sets (references, section 5).
"""

import math

import jsbsim
import numpy as np
import pytest

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.analysis.wing import Wing
from nembrit.core.records.log import Recording

_FT = 0.3048
_LOG_HZ, _STEP_HZ, _LEG_S, _SPEED_M_S = 10, 100, 60, 45.0


def flown(wind: tuple[float, float], *, rudder: float, gusts_m_s: float, seed: int) -> Recording:
    """Four legs of a minute at one airspeed, a right turn between them."""
    plane = jsbsim.FGFDMExec(None)
    plane.set_debug_level(0)
    plane.load_model("c172p")
    plane.set_dt(1 / _STEP_HZ)
    for name, value in {"h-sl-ft": 3000, "vc-kts": 95, "psi-true-deg": 0, "lat-gc-deg": 51, "long-gc-deg": 0}.items():
        plane[f"ic/{name}"] = value
    plane.run_ic()
    plane["propulsion/set-running"] = -1
    plane["fcs/throttle-cmd-norm"], plane["fcs/mixture-cmd-norm"], plane["fcs/rudder-cmd-norm"] = 0.7, 0.9, rudder
    rng = np.random.default_rng(seed)
    rows, gust, held = [], np.zeros(2), 0.0
    for k in range(4 * _LEG_S * _STEP_HZ):
        if k % 10 == 0:
            gust = 0.95 * gust + gusts_m_s * math.sqrt(1 - 0.95**2) * rng.standard_normal(2)
            plane["atmosphere/wind-north-fps"], plane["atmosphere/wind-east-fps"] = (np.array(wind) + gust) / _FT
        north, east = plane["velocities/v-north-fps"] * _FT, plane["velocities/v-east-fps"] * _FT
        target = math.radians(90 * (k // (_LEG_S * _STEP_HZ)))
        error = (target - math.atan2(east, north) + math.pi) % (2 * math.pi) - math.pi
        bank, pitch = plane["attitude/phi-rad"], plane["attitude/theta-rad"]
        wanted_bank = max(-0.45, min(0.45, 0.9 * error))
        plane["fcs/aileron-cmd-norm"] = max(-1.0, min(1.0, 1.2 * (wanted_bank - bank) - 0.5 * plane["velocities/p-rad_sec"]))
        wanted = 0.02 + 0.0012 * (3000 - plane["position/h-sl-ft"]) - 0.004 * plane["velocities/h-dot-fps"]
        wanted = max(-0.15, min(0.2, wanted))
        held += (wanted - pitch) / _STEP_HZ
        elevator = 0.6 * plane["velocities/q-rad_sec"] - 2.0 * (wanted - pitch) - 0.6 * held
        plane["fcs/elevator-cmd-norm"] = max(-1.0, min(1.0, elevator))
        plane["fcs/throttle-cmd-norm"] = max(0.1, min(1.0, 0.7 + 0.1 * (_SPEED_M_S - plane["velocities/vtrue-fps"] * _FT)))
        plane.run()
        if k % (_STEP_HZ // _LOG_HZ) == 0:
            rows.append(
                (
                    math.hypot(north, east),
                    math.degrees(math.atan2(east, north)) % 360,
                    math.degrees(bank),
                    plane["velocities/vtrue-fps"] * _FT,
                )
            )
    speed, course, banks, airspeed = np.array(rows[10 * _LOG_HZ :]).T
    channels = {
        "ground_speed": speed,
        "course": course,
        "attitude.roll": banks,
        "airspeed": airspeed,
        "throttle": np.full(speed.size, 0.7),
    }
    return Recording.of(channels, sample_rate_hz=float(_LOG_HZ))


def told(recording: Recording) -> Wing:
    found = analyse(Flight(recording, craft=CraftFacts(kind="fixed_wing")), only=["wing"]).wing
    assert found is not None
    return found


@pytest.mark.parametrize(
    ("wind", "rudder", "gusts", "side"),
    [
        ((0.0, 0.0), 0.0, 0.5, None),
        ((5.0, -3.0), 0.0, 0.8, None),
        ((-4.0, 6.0), 0.25, 0.5, "left"),
        ((3.0, 3.0), -0.25, 0.8, "right"),
    ],
)
def test_wind_and_pull_come_out_as_they_were_set(
    wind: tuple[float, float], rudder: float, gusts: float, side: str | None
) -> None:
    """Demanded: wind within 1.3 m/s with airspeed, 1.7 without; the side right, and no pull where there is none."""
    recording = flown(wind, rudder=rudder, gusts_m_s=gusts, seed=7)
    found = told(recording)
    assert found.wind is not None, found.reasons
    assert math.hypot(found.wind.north_m_s - wind[0], found.wind.east_m_s - wind[1]) < 1.3
    assert found.weaving is not None, found.reasons
    assert found.weaving.side == side, found.weaving
    assert len(found.weaving.legs) == 4
    blind = Recording.of({name: own for name, own in recording.channels.items() if name != "airspeed"}, sample_rate_hz=10.0)
    without = told(blind).wind
    assert without is not None
    assert math.hypot(without.north_m_s - wind[0], without.east_m_s - wind[1]) < 1.7
