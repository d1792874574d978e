"""Legs, turns, circles, heights and returns against the geometry that drew them, and against laws and libraries from outside."""

import math

import numpy as np
import pytest
import shapely

from nembrit.core.errors import NotEnoughData
from nembrit.core.wing.navigation import circle_through, navigation_of
from nembrit.core.wing.path import path_of
from nembrit.core.wing.returns import RETURN_HZ, returns_of
from nembrit.core.wing.track import track_of
from tests.core.wing.paths import SPEED_M_S, Drawn, returned
from tests.core.wing.planes import SURFACES


def there_and_back(side_m: float = 3.0) -> Drawn:
    path = Drawn().fly(40.0, wanted_deg=0.0, aside_m=side_m, wanted_height_m=62.0)
    path.fly(10.0, turn_deg_s=18.0, wanted_deg=180.0, aside_m=10.0, wanted_height_m=62.0)
    return path.fly(40.0, wanted_deg=180.0, aside_m=-side_m, wanted_height_m=62.0)


class TestNavigation:
    def test_legs_and_turn_are_those_that_were_drawn(self) -> None:
        found = navigation_of(track_of(there_and_back().recording()), None)
        assert [round(leg.course_deg) for leg in found.legs] == [0, 180]
        assert [leg.cross_track_m for leg in found.legs] == [pytest.approx(3.0), pytest.approx(-3.0)]
        assert all(abs(leg.course_error_deg) < 0.5 and leg.is_wanted and leg.with_wind_m_s is None for leg in found.legs)
        (turn,) = found.turns
        assert turn.turned_deg == pytest.approx(180.0, abs=6)
        assert turn.bank_deg == pytest.approx(22.6, abs=0.5)
        (height,) = found.heights
        assert (height.wanted_m, height.error_m) == (62.0, pytest.approx(-2.0))

    @pytest.mark.parametrize("turn_deg_s", [12.0, -18.0, 30.0])
    def test_the_radius_of_a_turn_is_the_law_of_turning(self, turn_deg_s: float) -> None:
        """ω = g tan φ / V and R = V/ω (Etkin and Reid, Dynamics of Flight: steady banked turn)."""
        path = Drawn().fly(30.0).fly(120 / abs(turn_deg_s), turn_deg_s=turn_deg_s).fly(30.0)
        (turn,) = navigation_of(track_of(path.recording()), None).turns
        law = SPEED_M_S**2 / (9.80665 * math.tan(math.radians(abs(turn.bank_deg or 0.0))))
        assert turn.radius_m == pytest.approx(law, rel=0.05)
        assert math.copysign(1, turn.turned_deg) == math.copysign(1, turn_deg_s)

    def test_the_wind_comes_out_of_a_turn_s_radius(self) -> None:
        """Flown in the air on a circle of 40 m while the air moves: over ground it is no circle."""
        found = track_of(Drawn().fly(20.0).fly(8.0, turn_deg_s=math.degrees(SPEED_M_S / 40.0)).fly(20.0).recording())
        moved = type(found)(**{name: getattr(found, name) for name in found.__slots__} | {"north_m_s": found.north_m_s + 4.0})
        wind = type("Wind", (), {"north_m_s": 4.0, "east_m_s": 0.0})()
        (turn,) = navigation_of(moved, wind).turns
        assert turn.air_radius_m == pytest.approx(40.0, rel=0.05)
        assert abs(turn.radius_m - 40.0) > 3

    @pytest.mark.parametrize("turns", [1.2, 2.5, -2.0])
    def test_circles_have_their_middle_and_radius(self, turns: float) -> None:
        path = Drawn().fly(10.0)
        middle = (path.north, path.east + math.copysign(45.0, turns))
        path.fly(abs(turns) * 2 * math.pi * 45 / SPEED_M_S, turn_deg_s=math.copysign(math.degrees(SPEED_M_S / 45.0), turns))
        (circle,) = navigation_of(track_of(path.recording()), None).circles
        assert circle.radius_m == pytest.approx(45.0, abs=1.0)
        assert (circle.north_m, circle.east_m) == (pytest.approx(middle[0], abs=1.5), pytest.approx(middle[1], abs=1.5))
        assert circle.turns == pytest.approx(turns, abs=0.15)

    def test_a_circle_fit_against_a_library(self) -> None:
        """Against GEOS' minimum bounding circle (shapely) of exact places: centre and radius to a centimetre."""
        angle = np.linspace(0, 2 * np.pi, 90, endpoint=False)
        north, east = 120 + 37.5 * np.cos(angle), -60 + 37.5 * np.sin(angle)
        places = shapely.multipoints(np.column_stack([east, north]))
        around = shapely.minimum_bounding_circle(places)
        middle, radius, error = circle_through(north, east)
        assert radius == pytest.approx(shapely.minimum_bounding_radius(places), abs=0.01)
        assert (middle[1], middle[0]) == (pytest.approx(around.centroid.x, abs=0.01), pytest.approx(around.centroid.y, abs=0.01))
        assert error < 1e-6

    @pytest.mark.parametrize(
        ("path", "without", "told"),
        [
            (there_and_back(), ("latitude",), "no positions in this log"),
            (Drawn().fly(8.0), (), "no legs, turns or circles"),
        ],
    )
    def test_what_is_missing_is_said(self, path: Drawn, without: tuple[str, ...], told: str) -> None:
        with pytest.raises(NotEnoughData, match=told):
            navigation_of(track_of(path.recording(*without)), None)

    def test_home_is_where_the_logged_distances_say_and_jumps_are_left_out(self) -> None:
        recording = there_and_back().recording().span(20.0, 80.0)
        track = track_of(recording)
        assert track.home_is_known
        assert track.home_deg == (pytest.approx(51.5, abs=1e-5), pytest.approx(-1.5, abs=1e-5))
        assert not track_of(there_and_back().recording("home_distance")).home_is_known
        latitude = recording.channels["latitude"].copy()
        latitude[100:104] += 0.02
        jumped = track_of(type(recording).of(recording.channels | {"latitude": latitude}, sample_rate_hz=10.0))
        assert np.nanmax(np.abs(jumped.north_m)) < 700

    @pytest.mark.parametrize(("longitude", "latitude"), [(180.0, 10.0), (20.0, 89.5)])
    def test_paths_over_the_date_line_and_near_a_pole_are_paths(self, longitude: float, latitude: float) -> None:
        recording = there_and_back().recording("home_distance")
        scale = math.cos(math.radians(51.5)) / math.cos(math.radians(latitude))
        moved = (recording.channels["longitude"] + 1.5) * scale + longitude
        channels = recording.channels | {
            "longitude": (moved + 180) % 360 - 180, "latitude": recording.channels["latitude"] - 51.5 + latitude,
        }  # fmt: skip
        found = navigation_of(track_of(type(recording).of(channels, sample_rate_hz=10.0)), None)
        assert len(found.legs) == 2

    def test_a_picture_s_path_is_thin_and_says_its_servos(self) -> None:
        recording = there_and_back().recording()
        servos = {f"servo.{n}": np.full(recording.n_samples, 1550.0) for n in range(1, 5)}
        found = path_of(type(recording).of(recording.channels | servos, sample_rate_hz=10.0), SURFACES)
        assert found.t_s.size == recording.n_samples // 2
        assert {number: values[0] for number, values in found.servos.items()} == {"1": 0.1, "2": 0.1, "3": 0.1, "4": -0.1}
        with pytest.raises(NotEnoughData, match="this log has neither positions nor attitude"):
            path_of(type(recording).of({"gyro.roll": np.zeros(100)}, sample_rate_hz=10.0), SURFACES)


class TestReturns:
    @pytest.mark.parametrize(
        ("drawn", "wanted"),
        [
            ({"side": 1.0, "offset_deg": 30.0}, {"turn_direction": "right", "circled": True, "landed": False}),
            ({"side": -1.0, "offset_deg": 30.0}, {"turn_direction": "left", "circled": True, "landed": False}),
            ({"side": 1.0, "circles": False, "lands": True}, {"circled": False, "landed": True}),
            ({"side": 1.0, "over_m": 9.0, "offset_deg": -40.0}, {"turn_direction": "right", "short_way": False}),
            ({"side": -1.0, "offset_deg": -40.0}, {"turn_direction": "left", "short_way": True}),
            ({"side": 1.0, "offset_deg": 0.0}, {"either_way": True, "short_way": True}),
        ],
    )
    def test_a_return_is_told_as_it_was_drawn(self, drawn: dict, wanted: dict) -> None:
        (found,) = returns_of(track_of(returned(**drawn).recording(), at_hz=RETURN_HZ), None)
        assert {name: getattr(found, name) for name in wanted} == wanted
        assert found.start_s == pytest.approx(25.0, abs=0.2)
        assert found.turn_start_s == pytest.approx(33.0, abs=0.5)
        assert found.turn_height_m == pytest.approx(80.0, abs=1.5)
        assert found.height_overshoot_m == pytest.approx(drawn.get("over_m", 0.0), abs=3.0)
        if found.short_way:  # the long way round ends before it points home, and is finished by the jump of the drawing
            assert found.turn_radius_m == pytest.approx(SPEED_M_S / math.radians(18.0), rel=0.08)
        if found.circled:
            assert found.circle_radius_m == pytest.approx(50.0, abs=2.0)
            assert found.turns == pytest.approx(2.0, abs=0.2)
            assert found.circle_direction == "right"

    @pytest.mark.parametrize(
        ("without", "mode", "told"),
        [
            (("mode",), "return", "no flight mode in this log"),
            (("latitude",), "return", "needs positions and attitude"),
            ((), "loiter", "no mode is called return or home .modes here: level, loiter."),
        ],
    )
    def test_what_is_missing_is_said(self, without: tuple[str, ...], mode: str, told: str) -> None:
        path = returned()
        path.modes = [mode if one == "return" else one for one in path.modes]
        with pytest.raises(NotEnoughData, match=told):
            returns_of(track_of(path.recording(*without), at_hz=RETURN_HZ), None)
