"""Obstacles from GeoJSON, clearances by hand, rules of a return, and ground heights from files."""

import json
from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.analysis.wing import Wing
from nembrit.core.analysis.wingfindings import wing_findings
from nembrit.core.errors import InputError, LogReadError
from nembrit.core.wing.obstacles import Obstacle, clearances, far_m, obstacles_from_geojson, obstacles_to_geojson
from nembrit.core.wing.returnrule import ReturnRule, judge_return, return_passed
from nembrit.core.wing.returns import RETURN_HZ, returns_of
from nembrit.core.wing.terrain import grid_of, is_grid, profile_between, reach_at, two_columns
from nembrit.core.wing.track import track_of
from tests.core.wing.paths import returned

HOME = (0.0, 0.0)
DEG = 1 / 111_319.49  # a metre east at the equator (WGS 84)
DEG_N = 1 / 110_574.3


def feature(kind: str, places: object, **properties: object) -> dict:
    return {"type": "Feature", "properties": properties, "geometry": {"type": kind, "coordinates": places}}


def document(*features: dict) -> str:
    return json.dumps({"type": "FeatureCollection", "features": list(features)})


class TestObstacles:
    def test_every_kind_is_read_and_written_alike(self) -> None:
        """GeoJSON: RFC 7946."""
        read = obstacles_from_geojson(
            document(
                feature("Point", [1, 2], name="mast", height_m=30), feature("LineString", [[1, 2], [3, 4]], height="12.5"),
                feature("Polygon", [[[0, 0], [1, 0], [1, 1], [0, 0]]], name="wood", height_m=18),
                feature("MultiPoint", [[1, 1], [2, 2]], name="trees", height_m=9),
            )
        )  # fmt: skip
        trees = ("trees", "Point", 1)
        told = [(one.name, one.kind, len(one.places)) for one in read]
        assert told == [("mast", "Point", 1), ("obstacle 2", "LineString", 2), ("wood", "Polygon", 3), trees, trees]
        assert obstacles_from_geojson(json.dumps(obstacles_to_geojson(read))) == read

    @pytest.mark.parametrize(
        ("text", "told"),
        [
            ("nothing", "this is not GeoJSON"),
            ("[]", "expected an object"),
            (document(), "no features"),
            (document({"type": "Feature"}), "feature 1 has no geometry"),
            (document(feature("Point", [1, 2], name="oak")), "“oak” has no height"),
            (document(feature("Point", [1, 2], height_m="tall")), "has no height"),
            (document(feature("Point", [1, 2], height_m=-3)), "above 0 and up to 500"),
            (document(feature("Point", [1, 200], height_m=3)), "within ±90"),
            (document(feature("LineString", [[1, 2]], height_m=3)), "needs at least 2 places"),
            (document(feature("Point", ["a", None], height_m=3)), "are not those of a Point"),
            (document(feature("Curve", [[1, 2]], height_m=3)), "is not a kind of obstacle"),
            (document(*(feature("Point", [1, 2], height_m=3) for _ in range(501))), "at most 500"),
        ],
    )
    def test_what_is_no_obstacle_is_refused_as_a_whole(self, text: str, told: str) -> None:
        with pytest.raises(InputError, match=told):
            obstacles_from_geojson(text)

    @pytest.mark.parametrize(
        ("kind", "places", "height_m", "beside_m", "above_m"),
        [
            ("Point", [(10.0, 50.0)], 20.0, 10.0, 30.0),  # east, north: ten metres beside the path at 50 m height
            ("Point", [(40.0, 50.0)], 20.0, 40.0, None),  # too far beside to be below
            ("LineString", [(-50.0, 80.0), (50.0, 80.0)], 12.0, 0.0, 38.0),
            ("Polygon", [(-20.0, 20.0), (20.0, 20.0), (20.0, 40.0), (-20.0, 40.0)], 45.0, 0.0, 5.0),
        ],
    )
    def test_clearances_by_hand(
        self, kind: str, places: list[tuple[float, float]], height_m: float, beside_m: float, above_m: float | None
    ) -> None:
        """A path due north at 50 m: distances are those on squared paper."""
        one = Obstacle(name="it", kind=kind, places=tuple((x * DEG, y * DEG_N) for x, y in places), height_m=height_m)
        north = np.linspace(0, 100, 51)
        (found,) = clearances([one], north, np.zeros(51), np.full(51, 50.0), np.arange(51.0), home_deg=HOME)
        assert found.beside_m == pytest.approx(beside_m, abs=0.05)
        assert found.above_m == (None if above_m is None else pytest.approx(above_m))
        assert far_m(one, HOME) > 0

    def test_a_path_of_one_fix_passes_nothing(self) -> None:
        one = Obstacle(name="it", kind="Point", places=((0.0, 0.0),), height_m=3.0)
        assert clearances([one], np.array([np.nan, 1.0]), np.array([0.0, 1.0]), np.ones(2), np.arange(2.0), home_deg=HOME) == ()


class TestRule:
    @pytest.mark.parametrize(
        ("drawn", "rule", "failed"),
        [
            ({}, {}, []),
            ({}, {"turns_within_s": 5.0}, ["turns within 5 s"]),
            ({"over_m": 15.0}, {}, ["climbs at most 10 m above its return height"]),
            ({}, {"lowest_m": 70.0}, ["stays above 70 m"]),
            ({"circles": False, "lands": True}, {}, ["circles over home"]),
            ({"circles": False, "lands": True}, {"ends": "either"}, ["comes within 100 m of home"]),  # it lands beyond it
            ({}, {"ends_within_m": 20.0}, ["comes within 20 m of home"]),
        ],
    )
    def test_each_criterion_by_itself(self, drawn: dict, rule: dict, failed: list[str]) -> None:
        (found,) = returns_of(track_of(returned(**drawn).recording(), at_hz=RETURN_HZ), None)
        points = judge_return(found, (), ReturnRule(**rule))
        assert [point.asked for point in points if point.passed is False] == failed
        assert return_passed(points) is (False if failed else None)  # nothing is marked: clear of it is not told

    @pytest.mark.parametrize(
        ("drawn", "told"),
        [
            ({}, None),
            ({"over_m": 15.0}, "The return failed: it climbed 15 m above its return height (10 m allowed). Do not rely on it."),
            (
                {"circles": False, "lands": True},
                "The return failed: it landed 211 m away from home (100 m allowed). Do not rely on it.",
            ),
        ],
    )
    def test_a_failed_return_is_the_first_finding(self, drawn: dict, told: str | None) -> None:
        flown = returns_of(track_of(returned(**drawn).recording(), at_hz=RETURN_HZ), None)
        wing = Wing(wind=None, trim=None, creep=None, weaving=None, returns=flown)
        found = wing_findings(wing)
        assert [one.summary for one in found] == ([] if told is None else [told])
        assert all(one.severity == "act" for one in found)

    @pytest.mark.parametrize(("height_m", "passed"), [(30.0, True), (65.0, False)])
    def test_what_stands_below_the_path_counts(self, height_m: float, passed: bool) -> None:
        (found,) = returns_of(track_of(returned().recording(), at_hz=RETURN_HZ), None)
        home = (51.5, -1.5)
        oak = Obstacle(name="oak", kind="Point", places=((-1.5 + 46 / 69300, 51.5 + 200 / 111_320),), height_m=height_m)
        over = clearances([oak], found.north_m, found.east_m + 0, found.height_m, found.t_s, home_deg=home)
        near = [one for one in over if one.above_m is not None]
        points = judge_return(found, over, ReturnRule())
        assert len(near) == 1
        assert next(point.passed for point in points if "clears every obstacle" in point.asked) is passed

    @pytest.mark.parametrize("changes", [{"turns_within_s": 0}, {"clear_by_m": 1000}, {"ends": "somewhere"}])
    def test_no_rule_is_made_of_what_none_is(self, changes: dict) -> None:
        with pytest.raises(InputError):
            ReturnRule(**changes)


GRID = "ncols 4\nnrows 3\nxllcorner 0\nyllcorner 0\ncellsize 0.01\nNODATA_value -9999\n1 1 1 1\n5 5 5 5\n9 9 9 {last}\n"


class TestTerrain:
    def test_a_grid_is_cut_along_a_line(self) -> None:
        """By hand: rows run from north to south, 9 m in the south row, 1 m in the north row, linear between."""
        content = GRID.format(last=9).encode()
        assert is_grid(content)
        assert not is_grid(b"distance,height\n")
        distance, ground = profile_between(grid_of(content, "g.asc"), (0.005, 0.01), (0.025, 0.01))
        assert distance[-1] == pytest.approx(2211.5, abs=1)
        assert (ground[0], ground[-1]) == (pytest.approx(9), pytest.approx(1))
        assert ground[len(ground) // 2] == pytest.approx(5, abs=0.1)

    @pytest.mark.parametrize(
        ("text", "told"),
        [
            ("ncols 4\nnrows 3\n", "needs xllcorner"),
            ("ncols four\n", "a name and a number"),
            ("ncols 4 5\n", "a name and a number"),
            (GRID.format(last=9).replace("nrows 3", "nrows 9"), "expected 9 × 4"),
            (GRID.format(last="x"), "numbers only"),
            (GRID.format(last=9).replace("cellsize 0.01", "cellsize 50"), "cells in degrees"),
        ],
    )
    def test_what_is_no_grid_is_refused(self, text: str, told: str) -> None:
        with pytest.raises(LogReadError, match=told):
            grid_of(text.encode(), "g.asc")

    @pytest.mark.parametrize(
        ("last", "end", "told"),
        [(9, (0.5, 0.01), "100 m to|does not cover"), (-9999, (0.006, 0.036), "no height"), (9, (0.0051, 0.01), "apart")],
    )
    def test_a_way_that_the_grid_does_not_hold_is_refused(self, last: int, end: tuple[float, float], told: str) -> None:
        with pytest.raises(InputError, match=told):
            profile_between(grid_of(GRID.format(last=last).encode(), "g"), (0.005, 0.01), end)

    def test_a_table_and_how_far_a_height_reaches(self) -> None:
        distance, ground = two_columns(b"d,h\n0,10\n100,10\n200,40\n300,10\n", "p.csv")
        needed = np.array([10.0, 12.0, 40.0, 70.0])
        assert [reach_at(height, distance, needed, ground) for height in (0.0, 5.0, 31.0, 90.0)] == [0.0, 100.0, 200.0, 300.0]


@pytest.mark.parametrize(
    ("height_m", "passed", "told"),
    [
        (90.0, True, "30 m above Mast"),
        (70.0, False, "10 m above Mast"),
        (np.nan, None, "it flew over Mast, but its height there was not logged"),
    ],
)
def test_no_obstacle_is_cleared_without_a_height(height_m: float, passed: bool | None, told: str) -> None:
    north, n = np.linspace(-300.0, 300.0, 200), 200
    mast = Obstacle(name="Mast", kind="Point", places=((9.0, 48.0),), height_m=60.0)
    over = clearances((mast,), north, np.zeros(n), np.full(n, height_m), np.arange(n) / 10, home_deg=(48.0, 9.0))
    flown = returns_of(track_of(returned().recording(), at_hz=RETURN_HZ), None)[0]
    point = next(one for one in judge_return(flown, over, ReturnRule()) if one.asked.startswith("clears"))
    assert (point.passed, point.flown) == (passed, told)


@pytest.mark.parametrize(
    ("change", "asked", "passed"),
    [
        ({"circled": False, "turns": 0.4, "landed": False}, "circles over home", None),  # a fly-past, or the log ends
        ({"circled": False, "turns": None, "landed": False}, "circles over home", False),
        ({"landed": True, "ends_m": 400.0}, "comes within 100 m of home", False),
    ],
)
def test_what_was_not_flown_to_its_end_is_not_passed(change: dict, asked: str, passed: bool | None) -> None:
    flown = replace(returns_of(track_of(returned().recording(), at_hz=RETURN_HZ), None)[0], **change)
    rule = ReturnRule(ends="land" if change["landed"] else "circle")
    point = next(one for one in judge_return(flown, (), rule) if one.asked == asked)
    assert point.passed is passed
