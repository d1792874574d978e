"""What is looked at before a flight, and what a phone's taps tell."""

import pytest

from nembrit.core.errors import InputError
from nembrit.core.setup.outing import Tap, tap_from, told_by
from nembrit.core.setup.preflight import checks_for, missing


@pytest.mark.parametrize("kind", ["multirotor", "fixed_wing"])
def test_every_check_is_needed_for_a_go(kind: str) -> None:
    every = {check.key for check in checks_for(kind)}
    assert missing(kind, every, 3.0) == missing(kind, every, None) == []
    for key in every:
        assert len(missing(kind, every - {key}, None)) == 1
    assert ("surfaces" in every) is (kind == "fixed_wing")


@pytest.mark.parametrize(("wind", "is_go"), [(8.0, True), (8.1, False)])
def test_wind_beyond_the_limit_is_no_go(wind: float, is_go: bool) -> None:
    assert (missing("multirotor", {check.key for check in checks_for("multirotor")}, wind) == []) is is_go


def tap(uid: str, kind: str, at_s: float, **data: object) -> Tap:
    return tap_from({"uid": f"0000000{uid}", "kind": kind, "at_s": at_s, "data": data})


FLOWN = [tap("1", "take_off", 20.0), tap("2", "next", 23.5, step=1), tap("3", "marker", 31.0, what="buzz")]


def test_taps_in_any_order_and_sent_twice_tell_the_same() -> None:
    whole = [
        *FLOWN,
        tap("4", "landed", 60.0),
        tap("5", "after", 70.0, ended="as_planned", heat={"1": "warm", "2": "hot"}, rating=4, note="fine"),
    ]
    told = told_by(whole)
    assert told_by([*reversed(whole), *whole]) == told
    assert (told.flew, told.markers, told.steps, told.landed_s) == (True, ((11.0, "buzz"),), ((3.5, 1),), 40.0)
    assert (told.ended, told.hottest, told.rating, told.note) == ("as_planned", "hot", 4, "fine")


@pytest.mark.parametrize(
    ("celsius", "hottest"),
    [({"1": 30}, "cool"), ({"1": 30, "2": 52.5}, "warm"), ({"1": 61}, "hot"), ({"1": 400, "2": True, "3": "hot"}, "")],
)
def test_a_thermometer_says_what_a_hand_would(celsius: dict[str, object], hottest: str) -> None:
    """Common practice, no source: warm from 45 °C on, too hot to hold from 60 °C on."""
    assert told_by([*FLOWN, tap("4", "after", 70.0, celsius=celsius)]).hottest == hottest


@pytest.mark.parametrize(
    ("more", "ended"),
    [
        ([tap("4", "bad_sign", 33.0)], "aborted"),
        ([tap("4", "bad_sign", 33.0), tap("5", "after", 50.0, ended="crashed")], "crashed"),
        ([], "as_planned"),
        ([tap("5", "after", 50.0, ended="nonsense", rating=9, heat={"1": "molten"})], "as_planned"),
    ],
)
def test_how_it_ended(more: list[Tap], ended: str) -> None:
    told = told_by([*FLOWN, *more])
    assert told.ended == ended
    assert told.rating is None
    assert told.heat == {}


@pytest.mark.parametrize(
    "document",
    [
        None, [], {}, {"uid": "x", "kind": "next", "at_s": 1}, {"uid": "0" * 12, "kind": "dance", "at_s": 1},
        {"uid": "0" * 12, "kind": "next", "at_s": -1}, {"uid": "0" * 12, "kind": "next", "at_s": float("nan")},
        {"uid": "0" * 12, "kind": "next", "at_s": True}, {"uid": "0" * 12, "kind": "next", "at_s": 1e9},
        {"uid": "0" * 12, "kind": "marker", "at_s": 1, "data": {"what": "explodes"}},
        {"uid": "<script>x", "kind": "next", "at_s": 1},
    ],
)  # fmt: skip
def test_what_is_no_entry_is_refused(document: object) -> None:
    with pytest.raises(InputError):
        tap_from(document)
