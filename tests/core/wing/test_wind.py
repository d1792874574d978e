"""Wind from circles and boxes, mirrored servos, and radio sight, against what was set and against published values."""

import math

import numpy as np
import pytest

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.wing.mixing import Servo, joined, split
from nembrit.core.wing.sight import bulge_m, fresnel_m, heights_needed
from nembrit.core.wing.wind import direction_word, estimate_wind
from tests.core.wing.flying import box, circle, flown


class TestWind:
    @pytest.mark.parametrize(("with_pitot", "most_m_s"), [(True, 1.3), (False, 1.7)])
    def test_a_box_or_a_circle_tells_the_wind(self, with_pitot: bool, most_m_s: float) -> None:
        """Sixteen flights, wind 1 to 9 m/s, gusts 0.2 to 1.5: nine in ten within the demand, and inside their interval."""
        rng = np.random.default_rng(20261128)
        errors, inside, turned = [], [], []
        for seed in range(16):
            speed, way = rng.uniform(1, 9), rng.uniform(0, 2 * np.pi)
            wind = (speed * math.cos(way), speed * math.sin(way))
            path = box() if seed % 2 else circle(360 + 360 * (seed % 4 == 0))
            log = flown(path, wind=wind, seed=seed, gusts_m_s=rng.uniform(0.2, 1.5), pitot_offset_m_s=rng.uniform(-0.7, 0.7))
            own = log.airspeed_m_s if with_pitot else None
            found = estimate_wind(log.north_m_s, log.east_m_s, rate_hz=log.rate_hz, airspeed_m_s=own)
            off = np.array([found.north_m_s - wind[0], found.east_m_s - wind[1]])
            errors.append(float(np.hypot(*off)))
            inside.append(float(off @ np.linalg.inv(np.array(found.covariance)) @ off) <= 5.991)
            blows_from = math.degrees(math.atan2(-wind[1], -wind[0])) % 360
            if speed > 3:
                turned.append(abs((found.from_deg - blows_from + 180) % 360 - 180))
        assert np.quantile(errors, 0.9) <= most_m_s
        assert np.mean(inside) >= 0.9
        assert np.quantile(turned, 0.9) <= 12

    @pytest.mark.parametrize("turned", [0.0, 30.0, 60.0])
    def test_less_than_a_quarter_turn_is_refused(self, turned: float) -> None:
        log = flown(circle(turned), wind=(4.0, 0.0), seed=3, gusts_m_s=0.1)
        with pytest.raises(NotEnoughData, match="fly a circle or a box"):
            estimate_wind(log.north_m_s, log.east_m_s, rate_hz=log.rate_hz, airspeed_m_s=log.airspeed_m_s)

    @pytest.mark.parametrize(
        ("wind", "words"),
        [((5.0, 5.0), "from the south-west"), ((0.0, -6.0), "from the east"), ((0.1, 0.1), "direction unknown")],
    )
    def test_wind_is_told_by_where_it_comes_from(self, wind: tuple[float, float], words: str) -> None:
        log = flown(circle(720, seconds=120), wind=wind, seed=5, gusts_m_s=0.3, pitot_offset_m_s=0.0)
        found = estimate_wind(log.north_m_s, log.east_m_s, rate_hz=log.rate_hz, airspeed_m_s=log.airspeed_m_s)
        assert words in found.in_words

    def test_missing_fixes_are_passed_over_and_wrong_shapes_refused(self) -> None:
        log = flown(circle(400), wind=(3.0, -2.0), seed=8, gusts_m_s=0.3)
        north = log.north_m_s.copy()
        north[::3] = np.nan
        found = estimate_wind(north, log.east_m_s, rate_hz=log.rate_hz, airspeed_m_s=log.airspeed_m_s)
        assert math.hypot(found.north_m_s - 3, found.east_m_s + 2) < 1.0
        with pytest.raises(InputError, match="same shape"):
            estimate_wind(north, log.east_m_s, rate_hz=5.0, airspeed_m_s=np.ones(3))
        with pytest.raises(NotEnoughData, match="too few fixes"):
            estimate_wind(np.full(300, np.nan), log.east_m_s, rate_hz=5.0)

    def test_every_direction_has_its_word(self) -> None:
        assert [direction_word(deg) for deg in (0, 44, 90, 181, 359.9)] == ["north", "north-east", "east", "south", "north"]


class TestMixing:
    @pytest.mark.parametrize("pair", ["v_tail", "elevons"])
    def test_taken_apart_and_joined_again(self, pair: str) -> None:
        rng = np.random.default_rng(1)
        left, right = rng.uniform(-1, 1, (2, 50))
        again = joined(*split(left, right, pair), pair)
        np.testing.assert_allclose(again, (left, right), atol=1e-15)

    def test_mirrored_servos_displaced_alike_in_microseconds(self) -> None:
        """±31 µs on mirrored V-tail servos is pure pitch, no yaw (common practice, no source)."""
        left, right = Servo(direction=1), Servo(direction=-1)
        pitch, yaw = split(left.deflection(1531.0), right.deflection(1469.0), "v_tail")
        assert (pitch, yaw) == (pytest.approx(31 / 500), 0.0)
        pitch, yaw = split(left.deflection(1531.0), right.deflection(1531.0), "v_tail")
        assert (pitch, yaw) == (0.0, pytest.approx(31 / 500))
        assert left.pulse_us(left.deflection(1604.0)) == pytest.approx(1604.0)

    @pytest.mark.parametrize("changes", [{"centre_us": 100.0}, {"throw_us": 10.0}, {"direction": 0}])
    def test_a_servo_that_is_none(self, changes: dict[str, float]) -> None:
        with pytest.raises(InputError):
            Servo(**changes)
        with pytest.raises(InputError, match="not a pair"):
            split(0.0, 0.0, "biplane")


class TestSight:
    @pytest.mark.parametrize(("ghz", "radius_m"), [(2.4, 5.588), (0.9, 9.126), (5.8, 3.595)])
    def test_fresnel_radius_mid_path_of_a_kilometre(self, ghz: float, radius_m: float) -> None:
        """ITU-R P.526: 17.32 sqrt(d1 d2/(d f)) in km and GHz; tolerance for its rounded constant."""
        assert fresnel_m(500.0, 1000.0, frequency_mhz=1000 * ghz) == pytest.approx(radius_m, rel=2e-3)

    @pytest.mark.parametrize(("whole_km", "bulge"), [(10.0, 1.4715), (1.0, 0.0147)])
    def test_bulge_mid_path(self, whole_km: float, bulge: float) -> None:
        """ITU-R P.526 at 4/3 of the earth's radius."""
        assert bulge_m(500 * whole_km, 1000 * whole_km) == pytest.approx(bulge, rel=3e-3)

    def test_a_ridge_asks_for_height_behind_it(self) -> None:
        """By hand: antenna 2 m, a ridge of 32 m at 1 km: at 2 km the ray passes 62 m, and the bulge twice its own."""
        distance = np.arange(0.0, 2001.0, 25.0)
        ground = np.where(distance == 1000.0, 32.0, 0.0)
        found = heights_needed(distance, ground, antenna_m=2.0, frequency_mhz=2400.0)
        assert found.geometric_m[-1] == pytest.approx(62 + 2 * bulge_m(1000.0, 2000.0), abs=1e-9)
        free = 0.6 * fresnel_m(1000.0, 2000.0, frequency_mhz=2400.0)
        assert found.clear_m[-1] == pytest.approx(found.geometric_m[-1] + 2 * free, abs=1e-9)
        assert (found.clear_m >= found.geometric_m).all()
        assert (found.geometric_m >= ground).all()

    def test_against_exact_geometry_on_a_sphere(self) -> None:
        """A sphere of 4/3 of the radius: a ray from h0 touches at sqrt(2 k R h0), beyond it the height grows."""
        radius = 4 / 3 * 6_371_000.0
        distance = np.arange(0.0, 30_001.0, 30.0)
        found = heights_needed(distance, np.zeros(distance.size), antenna_m=10.0, frequency_mhz=868.0)
        touch = math.sqrt(2 * radius * 10.0)
        beyond = distance > touch + 500
        exact = (radius) / np.cos((distance - radius * math.acos(radius / (radius + 10))) / radius) - radius
        assert np.abs(found.geometric_m - exact)[beyond].max() < 0.5

    @pytest.mark.parametrize(
        ("distance", "ground", "options", "told"),
        [
            ([0, 1], [0, 0], {}, "three places"),
            ([0, 2, 1], [0, 0, 0], {}, "a profile needs rising distances and no"),
            ([0, 1, 2], [0, float("nan"), 0], {}, "a profile needs rising distances and no"),
            ([0, 1, 2], [0, 0, 0], {"antenna_m": -3}, "antenna"),
            ([0, 1, 2], [0, 0, 0], {"frequency_mhz": 0}, "radio"),
        ],
    )
    def test_profiles_that_are_none(self, distance: list[float], ground: list[float], options: dict, told: str) -> None:
        with pytest.raises(InputError, match=told):
            heights_needed(
                np.array(distance, float), np.array(ground, float), **{"antenna_m": 2, "frequency_mhz": 2400} | options
            )
