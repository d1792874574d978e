"""The simulator: repeatable, and every setting acts as it would."""

from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.errors import InputError
from nembrit.core.setup.controller import Filter
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.simulate.airframe import Faults, World, airframe_of
from nembrit.core.simulate.flight import fly
from tests.flying import CARD, HEX, controller, flown, recording


def band_rms(values: np.ndarray, low_hz: float, high_hz: float) -> float:
    spectrum = np.abs(np.fft.rfft(values * np.hanning(values.size))) ** 2
    frequency_hz = np.fft.rfftfreq(values.size, 1 / 2000)
    return float(np.sqrt(spectrum[(frequency_hz >= low_hz) & (frequency_hz < high_hz)].sum()))


def test_the_same_seed_flies_the_same_flight_and_another_does_not() -> None:
    again = fly(HEX, controller(), CARD, World(seed=1, wind_m_s=2.0))
    for role, values in flown(1).channels.items():
        np.testing.assert_array_equal(again.channels[role], values)
    assert not np.array_equal(flown(2).channels["gyro.roll"], flown(1).channels["gyro.roll"])


# setting, what it acts on, and the factor by which the figure must at least fall (above 1: rise) when it is changed
@pytest.mark.parametrize(
    ("change", "role", "band", "below", "above"),
    [
        (("smooth gyro hz", "90"), "gyro.roll", (200, 900), 0.6, None),
        (("chip smooth hz", "250"), "gyro_raw.roll", (500, 900), 0.6, None),
        (("notch gyro hz", "170"), "gyro.roll", (160, 180), 0.8, None),
        (("smooth d hz", "50"), "term_d.roll", (150, 900), 0.6, None),
        (("d on roll", "70"), "term_d.roll", (100, 900), None, 1.7),
        (("p on roll", "86"), "term_p.roll", (100, 900), None, 1.7),
        (("f on roll", "60"), "term_f.roll", (0.5, 20), None, 3.0),
        (("i on pitch", "5"), "term_i.pitch", (0, 2), 0.9, None),
        (("stick yaw full", "200"), "setpoint.yaw", (0, 10), 0.8, None),
        (("motor updates", "500"), "motor.1", (200, 900), None, 1.05),
        (("authority %", "8"), "motor.1", (1, 60), 0.9, None),
    ],
)
def test_every_setting_acts(
    change: tuple[str, str], role: str, band: tuple[float, float], below: float | None, above: float | None
) -> None:
    ratio = band_rms(flown(1, 0.0, 2.0, (change,)).channels[role], *band) / band_rms(flown(1).channels[role], *band)
    assert ratio < below if below else ratio > above


def test_idle_is_the_lowest_motor_output_in_flight() -> None:
    high = recording(flown(1, 0.0, 2.0, (("motor floor %", "20"),)))
    assert min(high.channels[f"motor.{n}"].min() for n in range(1, 7)) == pytest.approx(0.20, abs=1e-4)


def test_rotor_notches_follow_the_motors() -> None:
    plain = controller()
    follow = replace(plain, gyro=(*plain.gyro, Filter(kind="rotor_notch", frequency_hz=60, q=3, orders=(1, 2), blend_hz=20)))
    flight = fly(HEX, follow, CARD, World(seed=1, wind_m_s=2.0))
    rotor_hz = float(np.median(flight.channels["motor_rpm.1"][6000:12_000])) / 60
    band = (2 * rotor_hz - 10, 2 * rotor_hz + 10)
    hover = slice(6000, 12_000)
    assert band_rms(flight.channels["gyro.roll"][hover], *band) < 0.6 * band_rms(flown(1).channels["gyro.roll"][hover], *band)


def test_motor_lines_turn_with_the_motors_and_a_bent_propeller_shouts() -> None:
    bent = fly(HEX, controller(), CARD, World(seed=1, wind_m_s=2.0, faults=Faults(propeller_motor=2)))
    hover = slice(6000, 12_000)
    rotor_hz = float(np.median(bent.channels["motor_rpm.2"][hover])) / 60
    band = (rotor_hz - 8, rotor_hz + 8)
    assert band_rms(bent.channels["gyro_raw.roll"][hover], *band) > 2 * band_rms(flown(1).channels["gyro_raw.roll"][hover], *band)


def test_the_pack_sags_with_throttle_and_empties() -> None:
    voltage, current = flown(1).channels["battery_voltage"], flown(1).channels["battery_current"]
    assert voltage[np.argmax(current)] < voltage[0] - 0.5
    assert voltage[-1] < voltage[0]


def test_a_tuner_reading_the_log_sees_a_craft_that_flies() -> None:
    part = recording(flown(1))
    error = part.channels["setpoint.roll"] - part.channels["gyro.roll"]
    assert error.std() < 0.5 * part.channels["setpoint.roll"].std()
    assert 0.2 < np.median(part.channels["motor.1"]) < 0.5


@pytest.mark.parametrize(
    ("craft", "world", "message"),
    [
        (Craft(name="x", kind="fixed_wing", motors=()), {}, "flies multirotors"),
        (Craft(name="x", kind="multirotor", motors=layout_motors("tri")), {}, "turn the craft in yaw"),
        (HEX, {"faults": Faults(propeller_motor=9)}, "no motor 9; the craft has 6"),
    ],
)
def test_what_cannot_be_flown_is_refused(craft: Craft, world: dict, message: str) -> None:
    with pytest.raises(InputError, match=message):
        fly(craft, controller(), CARD, World(**world))


@pytest.mark.parametrize("world", [{"wind_m_s": -1}, {"wind_m_s": 99}, {"pack_charge_ratio": 0}])
def test_impossible_worlds_are_refused(world: dict) -> None:
    with pytest.raises(InputError):
        World(**world)


def test_a_loop_rate_that_nobody_runs_is_refused() -> None:
    with pytest.raises(InputError, match="500 to 16000 Hz"):
        fly(HEX, replace(controller(), loop_rate_hz=100), CARD, World())


@pytest.mark.parametrize("layout", ["quad", "octo", "tri_coax", "quad_coax"])
def test_other_layouts_fly(layout: str) -> None:
    craft = Craft(name=layout, kind="multirotor", motors=layout_motors(layout), diameter_in=6.0)
    channels = fly(craft, controller(), CARD, World(seed=2)).channels
    assert np.abs(channels["gyro.roll"]).max() < 900
    assert airframe_of(craft).full_current_a > 0
