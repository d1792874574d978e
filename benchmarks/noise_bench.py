"""The noise analysis of a five-minute 4 kHz log against the bare scipy calls on the same data, in one run.

`python benchmarks/noise_bench.py` with PYTHONPATH=src:.
"""

import time
from collections.abc import Callable

import numpy as np
import scipy.signal

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse, there
from nembrit.core.causes.findings import findings_of
from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.simulate.airframe import World, airframe_of
from nembrit.core.simulate.flight import fly
from nembrit.core.types import AXES

RATE_HZ, MINUTES = 4000.0, 5.0
ROLES = [f"{family}.{axis}" for family in ("gyro_raw", "gyro") for axis in AXES] + [f"accel.{axis}" for axis in "xyz"]


def recording() -> Recording:
    """A simulated flight of the full card, repeated until it lasts five minutes."""
    craft = Craft(name="bench", kind="multirotor", motors=layout_motors("quad"), diameter_in=5.0)
    gains = AxisGains(p=0.0021, i=0.008, d=3.4e-5, f=1e-5)
    lowpass = (Filter(kind="lowpass_2", frequency_hz=150.0),)
    controller = Controller(loop_rate_hz=RATE_HZ, gains=dict.fromkeys(AXES, gains), gyro=lowpass, d_term=lowpass)
    card = next(one for one in CARDS if one.key == "full")
    flight = fly(craft, controller, card, World(seed=4, log_rate_hz=RATE_HZ), airframe=airframe_of(craft))
    n = round(MINUTES * 60 * RATE_HZ)
    return Recording.of({role: np.resize(values, n) for role, values in flight.channels.items()}, sample_rate_hz=RATE_HZ)


def bare(log: Recording) -> None:
    """What one would call by hand: Welch and a spectrogram of every gyro and accelerometer channel."""
    for role in ROLES:
        scipy.signal.welch(log.channels[role], fs=RATE_HZ, nperseg=2000)
        scipy.signal.spectrogram(log.channels[role], fs=RATE_HZ, nperseg=1024, noverlap=768)


def whole(log: Recording) -> None:
    """Everything the noise bench says of a log: spectra with bands and peaks, lines, motors, findings, maps of every axis."""
    flight = Flight(log, craft=CraftFacts(mixer=np.ones((4, 3)), blades=3), spans=())
    vars(flight)["_steps"], vars(flight)["usable"] = ({}, {}), {}  # the response is no part of the noise bench
    found = analyse(flight, only=("noise", "motors", "maps"))
    findings_of(flight, flight.symptoms, metrics={})
    assert there(found.maps).roles


def loops(log: Recording) -> None:
    """How three axes follow, the craft behind them, their margins, scores and swings."""
    mixer = np.array([[motor.roll, motor.pitch, motor.yaw] for motor in layout_motors("quad")])
    found = analyse(Flight(log, craft=CraftFacts(mixer=mixer, blades=3)), only=("response", "loop"))
    assert there(found.loop).tracking


def best_s(work: Callable[[Recording], None], log: Recording, n: int = 3) -> float:
    found = []
    for _ in range(n):
        began = time.perf_counter()
        work(log)
        found.append(time.perf_counter() - began)
    return min(found)


if __name__ == "__main__":
    flown = recording()
    hidden = Recording.of({r: v for r, v in flown.channels.items() if not r.startswith("motor_rpm")}, sample_rate_hz=RATE_HZ)
    reference_s = best_s(bare, flown)
    print(
        f"{flown.n_samples} samples at {RATE_HZ:.0f} Hz; bare Welch and spectrogram of {len(ROLES)} channels: {reference_s:.2f} s"
    )
    for name, log in (("motor speeds recorded", flown), ("estimated", hidden)):
        took_s = best_s(whole, log)
        print(f"whole noise analysis, {name}: {took_s:.2f} s, {took_s / reference_s:.1f} times the reference")
    took_s = best_s(loops, flown, 2)
    print(f"response of three axes with margins: {took_s:.2f} s, {took_s / reference_s:.1f} times the reference")
