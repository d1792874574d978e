"""Where motors sit, in which order they are counted, and scales that nobody knows."""

from dataclasses import replace

import pytest

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import apply_changes, number
from nembrit.core.setup.controller import controller_from_settings
from nembrit.core.setup.craft import LAYOUTS, layout_motors
from nembrit.core.setup.frame import places_of, rearranged
from nembrit.core.setup.namemap import Meaning, check_sense, propose_map
from nembrit.core.setup.pasted import parse_settings
from nembrit.core.simulate.airframe import World, airframe_of
from nembrit.core.simulate.assumed import filled_map
from nembrit.core.simulate.flight import fly
from nembrit.demo.texts import JUNIPER_SETTINGS
from tests.flying import CARD, HEX, NAMES, controller


@pytest.mark.parametrize(
    ("layout", "names"),
    [
        ("quad_plus", ["at the nose", "right", "at the tail", "left"]),
        ("hex", ["front right", "right", "rear right", "rear left", "left", "front left"]),
        ("tri_coax", [f"{arm}, {level}" for arm in ("front right", "at the tail", "front left") for level in ("upper", "lower")]),
        ("octo", ["at the nose", "front right", "right", "rear right", "at the tail", "rear left", "left", "front left"]),
    ],
)
def test_places_are_named_as_seen_from_above(layout: str, names: list[str]) -> None:
    places = places_of(layout_motors(layout))
    if layout != "octo":  # two of its motors share a sector: they are told apart by a number
        assert [place.name for place in places] == names
    assert len({place.name for place in places}) == len(places)


@pytest.mark.parametrize("layout", LAYOUTS)
def test_the_same_order_changes_nothing_and_another_comes_back(layout: str) -> None:
    motors = layout_motors(layout)
    places = places_of(motors)
    numbers, clockwise = [place.number for place in places], [place.turns == "clockwise" for place in places]
    assert rearranged(motors, numbers, clockwise) == motors
    turned = numbers[1:] + numbers[:1]
    other = rearranged(motors, turned, clockwise)
    assert other != motors
    assert {(motor.roll, motor.pitch) for motor in other} == {(motor.roll, motor.pitch) for motor in motors}
    assert sum(motor.yaw for motor in other) == pytest.approx(sum(motor.yaw for motor in motors))


@pytest.mark.parametrize(
    ("numbers", "clockwise", "message"),
    [
        ([1, 1, 2, 3], [True, False, True, False], "each motor from 1 to 4 sits at one place"),
        ([1, 2, 3, 9], [True, False, True, False], "each motor from 1 to 4"),
        ([1, 2, 3, 4], [True] * 4, "all motors turn the same way"),
    ],
)
def test_an_order_that_cannot_be_is_refused(numbers: list[int], clockwise: list[bool], message: str) -> None:
    with pytest.raises(InputError, match=message):
        rearranged(layout_motors("quad"), numbers, clockwise)


@pytest.mark.parametrize(
    ("name", "value", "scale"),
    [
        ("idle", 5.5, 0.01),
        ("idle %", 0.5, 0.01),
        ("idle", 0.05, 1.0),
        ("idle", 0.5, None),
        ("idle", None, None),
        ("p on roll", 40.0, None),
    ],
)
def test_a_scale_is_proposed_only_where_the_number_tells(name: str, value: float | None, scale: float | None) -> None:
    assert propose_map([name], {name: value})[name].scale == scale


@pytest.mark.parametrize(
    ("key", "scale", "value", "message"),
    [
        ("idle", 1.0, 5.5, "would be 550 % of full"),
        ("idle", 1.0, 1.0, None),
        ("output_limit", 0.01, 101.0, "101 %"),
        ("filter.gyro.low.cutoff_hz", 1000.0, 120.0, "120000 Hz: out of range"),
        ("filter.gyro.low.cutoff_hz", 1.0, 120.0, None),
        ("rates.roll.full_dps", 10.0, 700.0, "7000 deg/s"),
        ("gain.rate.roll.p", None, 40.0, None),
    ],
)
def test_a_scale_that_makes_nonsense_is_refused(key: str, scale: float | None, value: float, message: str | None) -> None:
    if message is None:
        check_sense("x", Meaning(key, scale), value)
    else:
        with pytest.raises(InputError, match=message):
            check_sense("x", Meaning(key, scale), value)


def test_without_scales_the_reference_is_taken_as_sound_and_changes_act_in_proportion() -> None:
    settings = parse_settings(JUNIPER_SETTINGS)
    unknown = {name: replace(one, scale=None) if one.key.startswith("gain.") else one for name, one in NAMES.items()}
    with pytest.raises(InputError, match="need a name and a scale"):
        controller_from_settings(settings, unknown)
    filled = filled_map(settings, unknown, airframe_of(HEX))
    names, assumed = filled.names, filled.assumptions
    made = filled.controller(settings)
    assert {one.name for one in assumed} == {name for name, one in unknown.items() if one.key.startswith("gain.")}
    assert made.gains["roll"].p == pytest.approx(controller().gains["roll"].p, rel=0.6)
    more = controller_from_settings(apply_changes(settings, {"p on roll": "86"}), names)
    assert more.gains["roll"].p / made.gains["roll"].p == pytest.approx(2.0)
    flown = fly(HEX, made, CARD, World(seed=4))
    error = flown.channels["setpoint.roll"] - flown.channels["gyro.roll"]
    assert error.std() < 0.5 * flown.channels["setpoint.roll"].std(), "it flies"
    told = {one.name: one.in_words for one in assumed}
    assert told["p on roll"].startswith("p on roll = 43 stands for")
    assert told["d on yaw"].startswith("d on yaw = 0; 40 would stand for")
    known = filled_map(settings, NAMES, airframe_of(HEX))
    assert (known.names, known.extra, known.assumptions) == (NAMES, (), ())


@pytest.mark.parametrize(
    "text",
    [
        "a = 1",
        "p on roll = 40\nsmooth gyro hz = 30\nsmooth d hz = 25",
        "loop = 8\np on roll = 0\nd on roll = 0",
        JUNIPER_SETTINGS,
    ],
)
def test_whatever_the_first_settings_say_the_craft_flies(text: str) -> None:
    settings = parse_settings(text)
    names = propose_map([one.name for one in settings], {one.name: number(one.value) for one in settings})
    filled = filled_map(settings, names, airframe_of(HEX))
    made = filled.controller(settings)
    assert filled.assumptions
    flown = fly(HEX, made, CARD, World(seed=4))
    error = flown.channels["setpoint.roll"] - flown.channels["gyro.roll"]
    assert error.std() < 0.9 * flown.channels["setpoint.roll"].std(), "it flies"
    assert all("gain" in one.in_words or "=" in one.in_words for one in filled.assumptions)
