"""Configurations, name maps, controllers, craft and cards."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nembrit.core.errors import InputError
from nembrit.core.setup.card import card_from_json, card_to_json
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.configuration import (
    Setting,
    apply_changes,
    check_change,
    diff_settings,
    number,
    settings_text,
)
from nembrit.core.setup.controller import controller_from_json, controller_from_settings, controller_to_json
from nembrit.core.setup.craft import LAYOUTS, craft_from_json, craft_to_json, layout_motors
from nembrit.core.setup.namemap import GROUPS, MEANINGS, Meaning, group_of, propose_map
from nembrit.core.setup.pasted import parse_settings, read_pasted
from nembrit.demo.texts import JUNIPER_SETTINGS, NAME_MAP
from tests.flying import HEX, NAMES, controller

_WORD = st.text(st.characters(whitelist_categories=("L", "N", "P", "S"), blacklist_characters="=#;/[]"), min_size=1, max_size=12)


_VALUE = _WORD.filter(lambda text: text not in ("-", "–", "—"))  # a dash alone is no value, on purpose


@given(st.dictionaries(_WORD, _VALUE, min_size=1, max_size=12))
def test_settings_survive_being_written_and_pasted(pairs: dict[str, str]) -> None:
    settings = tuple(Setting(name, value) for name, value in pairs.items())
    assert parse_settings(settings_text(settings)) == settings


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "no settings found"),
        ("# only notes\n\n", "no settings found"),
        ("p on roll = 4\nd == 12", "line 2: “d” has no value: found “= 12”"),
        ("p on roll = 4\nd = -", "line 2: “d” has no value: found “-”"),
        ("p on roll = 4\nd = 1e400", "line 2: “d” has a number out of range: “1e400”"),
        ("p on roll = 4\nnonsense", "line 2: expected “name = value”, found “nonsense”"),
        ("= 4", "line 1"),
        ("a = 1\n\na = 2", "line 3: “a” is in line 1 already"),
        ("a = " + "9" * 300, "200 characters at most"),
    ],
)
def test_bad_lines_are_named(text: str, message: str) -> None:
    with pytest.raises(InputError, match=message):
        parse_settings(text)


@pytest.mark.parametrize(
    ("text", "settings"),
    [
        ("a = 1\nb=2", {"a": "1", "b": "2"}),
        ("a: 1\nb :2", {"a": "1", "b": "2"}),
        ("a\t1\nb\t 2", {"a": "1", "b": "2"}),
        ("p on roll 42\nrates 1.0, 0.7, 0.5\nmode fast", {"p on roll": "42", "rates": "1.0, 0.7, 0.5", "mode": "fast"}),
        ("a name   some words", {"a name": "some words"}),
        ("a = 1 # why\nb = 2 ; also\nc = 3 // and", {"a": "1", "b": "2", "c": "3"}),
        ("; all\n// notes\na = x#1", {"a": "x#1"}),  # what stands within a word is no note
        ("[roll]\np = 1\n[pitch]\np = 2", {"[roll] p": "1", "[pitch] p": "2"}),
        (
            "set roll_p = 1\nset yaw_d = 2\nset gyro_hz = 90\nset loop = 8",
            {"roll_p": "1", "yaw_d": "2", "gyro_hz": "90", "loop": "8"},
        ),
        ("set roll_p 1\nset yaw_d 2\nset gyro_hz 90", {"roll_p": "1", "yaw_d": "2", "gyro_hz": "90"}),
        ("p roll = 1\np pitch = 2\np yaw = 3", {"p roll": "1", "p pitch": "2", "p yaw": "3"}),
        ("empty =\na = 1", {"empty": "", "a": "1"}),
        ("time = 12:30", {"time": "12:30"}),
    ],
)
def test_lists_as_people_have_them(text: str, settings: dict[str, str]) -> None:
    assert {one.name: one.value for one in parse_settings(text)} == settings


def test_all_doubtful_lines_are_told_at_once() -> None:
    found = read_pasted("a = 1\nwhat is this\nb = 2\na = 3\nb = 2\n= 4")
    assert [one.name for one in found.settings] == ["a", "b"]
    assert [(doubt.line, doubt.why.split(",")[-1].strip()) for doubt in found.doubts] == [
        (2, "found “what is this”"), (4, "“1”"), (5, "with the same value"), (6, "found “= 4”"),
    ]  # fmt: skip
    with pytest.raises(InputError, match=r"line 2: .*; line 4: .*; line 5: .*; line 6: "):
        parse_settings("a = 1\nwhat is this\nb = 2\na = 3\nb = 2\n= 4")
    with pytest.raises(InputError, match="5001 lines"):
        read_pasted("\n" * 5001)


def test_diff_names_what_changed_appeared_and_went() -> None:
    before, after = parse_settings("a = 1.0\nb = 2\nc = x"), parse_settings("a = 1\nb = 3\nd = 4")
    changes = [(change.name, change.before, change.after, change.ratio) for change in diff_settings(before, after)]
    assert changes == [("b", "2", "3", 1.5), ("c", "x", None, None), ("d", None, "4", None)]
    assert diff_settings(after, after) == ()


@pytest.mark.parametrize(
    ("before", "after", "message"),
    [
        ("35", "soft", "“soft” is none"), ("35", "nan", "is none"), ("35", "701", "out of range"), ("35", "-1", "out of range"),
        ("35", "700", ""), ("35", "0", ""), ("-3", "-90", ""), ("0", "9999", ""), ("fast", "slow", ""), ("fast", "3", ""),
    ],
)  # fmt: skip
def test_new_values_that_make_no_sense_are_refused(before: str, after: str, message: str) -> None:
    if not message:
        check_change("d on roll", before, after)
        return
    with pytest.raises(InputError, match=message):
        check_change("d on roll", before, after)


def test_changing_an_unknown_setting_is_refused() -> None:
    with pytest.raises(InputError, match="no setting of this configuration"):
        apply_changes(parse_settings("a = 1"), {"b": "2"})


@pytest.mark.parametrize(
    ("name", "meaning"),
    [
        ("roll_p", "gain.rate.roll.p"),
        ("PitchD", "gain.rate.pitch.d"),
        ("yaw feedforward", "gain.rate.yaw.f"),
        ("gyro cutoff", "filter.gyro.low.cutoff_hz"),
        ("gyro notch q", "filter.gyro.notch.q"),
        ("max stick rate roll", "rates.roll.full_dps"),
        ("volume", None),
    ],
)
def test_names_are_guessed_from_their_words(name: str, meaning: str | None) -> None:
    found = propose_map([name]).get(name)
    assert (found.key if found else None) == meaning


def test_every_meaning_belongs_to_a_group() -> None:
    assert {group_of(key) for key in MEANINGS} <= set(GROUPS)
    assert {meaning for meaning, _ in NAME_MAP.values()} <= set(MEANINGS)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"p on roll": "fast"}, "should be a number of 0 or more: it stands for P gain, rate loop, roll"),
        ({"d on yaw": "-3"}, "should be a number of 0 or more"),
        ({"p on roll": "nan"}, "should be a number"),
        ({"stick roll middle": "900"}, "roll: the stick rate at half stick"),
    ],
)
def test_a_controller_refuses_what_cannot_be_flown(change: dict[str, str], message: str) -> None:
    with pytest.raises(InputError, match=message):
        controller_from_settings(apply_changes(parse_settings(JUNIPER_SETTINGS), change), NAMES)


def test_a_controller_names_the_gain_that_has_no_meaning() -> None:
    names = {name: meaning for name, meaning in NAMES.items() if name != "i on pitch"}
    with pytest.raises(InputError, match="I gain, rate loop, pitch need a name and a scale"):
        controller_from_settings(parse_settings(JUNIPER_SETTINGS), names)


def test_shown_numbers_become_si_by_their_scale() -> None:
    found = controller_from_settings(parse_settings(JUNIPER_SETTINGS), NAMES)
    assert found.gains["roll"].p == pytest.approx(43 * 6e-5)
    assert found.idle == pytest.approx(0.06)
    assert [entry.frequency_hz for entry in found.gyro] == [180.0]  # the notch at 0 Hz is off
    names = dict(NAMES) | {"lamp": Meaning("other", None)}
    assert controller_from_settings(parse_settings(JUNIPER_SETTINGS), names) == found


def test_documents_read_back_identically() -> None:
    found = controller(notch_gyro_hz="181")
    assert controller_from_json(json.loads(json.dumps(controller_to_json(found)))) == found
    assert craft_from_json(json.loads(json.dumps(craft_to_json(HEX)))) == HEX
    for card in CARDS:
        assert card_from_json(json.loads(json.dumps(card_to_json(card)))).manoeuvres == card.manoeuvres


@pytest.mark.parametrize(
    ("read", "document", "message"),
    [
        (controller_from_json, {}, "nembrit.configuration/1"),
        (controller_from_json, {"schema": "nembrit.configuration/1"}, "gains in SI"),
        (controller_from_json, {"schema": "nembrit.configuration/1", "gain_units": "si"}, "not complete"),
        (craft_from_json, {"schema": "nembrit.craft/1", "name": "x"}, "not complete"),
        (card_from_json, {"schema": "nembrit.card/1", "manoeuvres": []}, "at least one manoeuvre"),
        (
            card_from_json,
            {"schema": "nembrit.card/1", "manoeuvres": [{"kind": "loop", "seconds": 3}]},
            "manoeuvre 1: “loop” is no kind",
        ),
        (card_from_json, {"schema": "nembrit.card/1", "manoeuvres": [{"kind": "hover", "seconds": 0}]}, "manoeuvre 1: seconds"),
        (card_from_json, {"schema": "nembrit.card/1", "manoeuvres": [{"kind": "hover", "secs": 2}]}, "manoeuvre 1"),
    ],
)
def test_documents_that_lack_something_are_refused(read, document: dict, message: str) -> None:
    with pytest.raises(InputError, match=message):
        read(document)


@pytest.mark.parametrize("layout", LAYOUTS)
def test_layouts_are_balanced(layout: str) -> None:
    motors = layout_motors(layout)
    for axis in ("roll", "pitch"):
        assert sum(getattr(motor, axis) for motor in motors) == pytest.approx(0, abs=1e-3)


@pytest.mark.parametrize(
    ("settings", "told"),
    [
        (
            {"gyro_lowpass_type": "PT2", "gyro_lowpass_hz": "220", "loop_rate_hz": "4000"},
            {"gyro_lowpass_hz": ("filter.gyro.low.cutoff_hz", 1.0), "loop_rate_hz": ("loop_rate_hz", 1.0)},
        ),
        ({"gyro_lp_order": "2", "gyro_lp_cutoff": "180"}, {"gyro_lp_cutoff": ("filter.gyro.low.cutoff_hz", 1.0)}),
        (
            {"pid_rate_khz": "8", "esc_update_hz": "48000"},
            {"pid_rate_khz": ("loop_rate_hz", 1000.0), "esc_update_hz": ("output_rate_hz", 1.0)},
        ),
        (
            {"roll_prop": "42", "pitch_deriv": "40"},
            {"roll_prop": ("gain.rate.roll.p", None), "pitch_deriv": ("gain.rate.pitch.d", None)},
        ),
    ],
)  # fmt: skip
def test_families_of_settings_are_told_apart(settings: dict[str, str], told: dict[str, tuple[str, float | None]]) -> None:
    found = propose_map(list(settings), {name: number(value) for name, value in settings.items()})
    assert {name: (one.key, one.scale) for name, one in found.items()} == told
