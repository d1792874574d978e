"""Starting values: the table's order, likeness by hand, and settings carried over by meaning."""

import json

import pytest

from nembrit.core.errors import InputError
from nembrit.core.routes.starting import (
    Body,
    Given,
    from_craft,
    from_json,
    from_table,
    likeness,
    ranges_for,
    thrust_to_weight,
    to_json,
)
from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.namemap import Meaning

FIVE = Body(name="Five", diameter_in=5.0, cells=5, mass_g=650.0)
SETTINGS = (Setting(name="p roll", value="50"), Setting(name="p pitch", value="52"), Setting(name="d roll", value="300"),
            Setting(name="smooth hz", value="90"), Setting(name="lamp", value="amber"))  # fmt: skip
NAMES = {"p roll": Meaning("gain.rate.roll.p"), "p pitch": Meaning("gain.rate.pitch.p"), "d roll": Meaning("gain.rate.roll.d"),
         "smooth hz": Meaning("filter.gyro.low.cutoff_hz", 1.0)}  # fmt: skip


@pytest.mark.parametrize(("value", "grows"), [("p", True), ("d", True), ("i", True), ("gyro_hz", False), ("d_hz", False)])
def test_ranges_go_one_way_with_size(value: str, grows: bool) -> None:
    """Common practice, no source: larger propellers, more gain and lower cutoffs."""
    sizes = [(2.0, 2, 60.0), (3.0, 3, 220.0), (5.0, 5, 650.0), (7.0, 6, 1000.0), (10.0, 6, 2000.0)]
    starts = [ranges_for(Body(name="", diameter_in=d, cells=c, mass_g=m))[value].start for d, c, m in sizes]
    assert starts == sorted(starts, reverse=not grows)
    assert all(ranges_for(FIVE)[value].low <= ranges_for(FIVE)[value].start <= ranges_for(FIVE)[value].high for _ in "1")


@pytest.mark.parametrize(
    ("change", "lower"), [({"cells": 6}, True), ({"cells": 4}, False), ({"mass_g": 900.0}, False), ({"mass_g": 450.0}, True)]
)
def test_more_power_starts_lower(change: dict, lower: bool) -> None:
    other = ranges_for(Body(**({"name": "", "diameter_in": 5.0, "cells": 5, "mass_g": 650.0} | change)))["p"].start
    assert (other < ranges_for(FIVE)["p"].start) is lower


def test_the_table_speaks_of_hundred_point_scales_and_hertz_only() -> None:
    found, left = from_table(FIVE, SETTINGS, NAMES)
    assert {one.name: one.after for one in found} == {"p roll": "40", "p pitch": "44", "smooth hz": "132"}
    assert left == ["d roll = 300 is on a scale of its own"]
    assert all(one.why for one in found)
    with pytest.raises(InputError, match="1 to 15 inches"):
        ranges_for(Body(name="", diameter_in=22.0, cells=12, mass_g=9000.0))


@pytest.mark.parametrize(
    ("other", "is_like"),
    [
        (FIVE, True),
        (Body(name="", diameter_in=5.1, cells=5, mass_g=700.0, thrust_to_weight=7.0), True),
        (Body(name="", diameter_in=6.0, cells=5, mass_g=650.0), False),
        (Body(name="", diameter_in=5.0, cells=3, mass_g=650.0), False),
        (Body(name="", diameter_in=5.0, cells=5, mass_g=1300.0), False),
    ],
)
def test_likeness_is_explained(other: Body, is_like: bool) -> None:
    found = likeness(FIVE, other)
    assert found.is_like is is_like
    assert any(line.startswith("propeller") for line in found.lines)
    assert likeness(other, FIVE).distance == pytest.approx(found.distance)


def test_settings_are_carried_over_by_meaning_and_scale_and_a_file_gives_the_same() -> None:
    other = Given(
        body=Body(name="Sister", diameter_in=5.0, cells=5, mass_g=640.0),
        settings=(Setting(name="P_R", value="120"), Setting(name="p pitch", value="48"), Setting(name="cut", value="0.15"),
                  Setting(name="lamp", value="red")),
        names={"P_R": Meaning("gain.rate.roll.p", 2e-5), "p pitch": Meaning("gain.rate.pitch.p"),
               "cut": Meaning("filter.gyro.low.cutoff_hz", 1000.0), "lamp": Meaning("other")},
    )  # fmt: skip
    own = NAMES | {"p roll": Meaning("gain.rate.roll.p", 4e-5)}
    found, left = from_craft(other, SETTINGS, own)
    assert {one.name: one.after for one in found} == {"p roll": "60", "p pitch": "48", "smooth hz": "150"}
    assert left == []
    again = from_json(json.dumps(to_json(other)).encode())
    assert from_craft(again, SETTINGS, own)[0] == found
    assert from_craft(other, SETTINGS, NAMES)[1] == ["p roll: the scales of the two craft differ or are unknown"]


@pytest.mark.parametrize(
    "content",
    [b"", b"[]", b"{}", b'{"format": "other/1", "craft": {}, "settings": []}', b"\xff\xfe", b'{"craft": 3, "settings": 4}',
     b'{"format": "nembrit.start/1", "craft": {"name": "x", "propeller_diameter_in": -1, "cells": 4, "mass_g": 5}, "settings": []}',  # noqa: E501
     b"[" * 50_000],
)  # fmt: skip
def test_what_is_no_file_of_starting_values_is_refused(content: bytes) -> None:
    with pytest.raises(InputError):
        from_json(content)


@pytest.mark.parametrize(("hover", "ratio"), [(0.5, 4.0), (0.25, 16.0), (1.0, 1.0)])
def test_thrust_to_weight_by_the_square_of_speed(hover: float, ratio: float) -> None:
    assert thrust_to_weight(hover) == pytest.approx(ratio)
