"""Meanings as a document, servo scales as texts, named modes, and numbers that no craft can have."""

import json
from pathlib import Path

import jsonschema
import numpy as np
import pytest

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.errors import InputError
from nembrit.core.formats.registry import read_log, read_raw
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.records.log import Recording
from nembrit.core.records.meanings import MeaningsError, meanings_document, with_meanings
from nembrit.core.records.needs import Need
from nembrit.core.records.plausible import impossible
from nembrit.core.records.units import parse_scale, scale_text, units_of
from nembrit.core.setup.craft import Surface
from nembrit.core.wing.cure import new_centres

CONTENT = b"ms;fm;out_1;rate\n" + b"".join(b"%d;%d;%d;%d\n" % (20 * k, 7 if k < 40 else 21, k % 9 - 4, k % 5) for k in range(80))
GIVEN = {
    "schema": "nembrit.meanings/1",
    "columns": {
        "out_1": {"role": "servo.1", "unit": "\u2030", "centre_us": 1512, "throw_us": 400},
        "rate": {"role": "gyro.roll", "unit": "rad/s"},
        "fm": {"role": "mode"},
    },
    "modes": {"21": "return"},
    "sample_rate_hz": None,
}


def test_a_document_gives_columns_servos_and_modes_their_meanings() -> None:
    log = read_log(CONTENT, meanings=GIVEN)
    servo, rate, mode = (log.main.find(role) for role in ("servo.1", "gyro.roll", "mode"))
    assert servo.values()[:3].tolist() == [1512 - 1.6, 1512 - 1.2, 1512 - 0.8]
    assert rate.values()[1] == pytest.approx(57.29578)
    assert [mode.labels[code] for code in mode.samples[[0, 79]]] == ["mode 7", "return"]


def test_what_is_exported_comes_in_again_as_it_was() -> None:
    raw = read_raw(CONTENT)
    mapping = with_meanings(propose(raw), raw, GIVEN)
    document = json.loads(json.dumps(meanings_document(mapping)))
    jsonschema.validate(document, json.loads(Path("docs/schemas/meanings.schema.json").read_text(encoding="utf-8")))
    again = with_meanings(propose(raw), raw, document)
    one, other = (interpret(raw, own).main for own in (mapping, again))
    assert [channel.role for channel in one.channels] == [channel.role for channel in other.channels]
    for channel in one.channels:
        np.testing.assert_allclose(channel.values(), other.find(channel.role).values(), rtol=1e-9)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"schema": "other/1"}, "expected meanings"),
        ({"columns": {"nothing here": {"role": "gyro.roll"}}}, "none of this file"),
        ({"columns": {"rate": {"role": "gyro.left"}}}, "not a known meaning"),
        ({"columns": {"rate": {"role": "gyro.roll", "unit": "V"}}}, "gyro.roll is written in"),
        ({"columns": {"rate": {"role": "gyro.roll", "scale": "much"}}}, "must be a number"),
        ({"columns": {"rate": {"role": "gyro.roll", "scale": 0}}}, "other than 0"),
        ({"columns": {"out_1": {"role": "servo.1", "centre_us": 1512}}}, "centre_us and throw_us"),
        ({"columns": {"out_1": {"role": "gyro.roll"}, "rate": {"role": "gyro.roll"}}}, "each meaning belongs to one column"),
        ({"columns": {"rate": 5}}, "must be an object"),
        ({"sample_rate_hz": -4}, "sample_rate_hz"),
    ],
)
def test_wrong_meanings_are_refused_with_what_is_wrong(change: dict, words: str) -> None:
    with pytest.raises(MeaningsError, match=words):
        read_log(CONTENT, meanings={**GIVEN, **change})


@pytest.mark.parametrize(
    ("text", "factor", "offset"),
    [
        ("µs", 1.0, 0.0), ("‰ of ±400 around 1512", 0.4, 1512.0), ("per cent of +-350 around 1490", 3.5, 1490.0),
        ("% from 1000 to 2000", 10.0, 1000.0), ("±400 around 1500", 400.0, 1500.0),
    ],
)  # fmt: skip
def test_servos_are_said_as_people_say_them(text: str, factor: float, offset: float) -> None:
    assert parse_scale("servo.1", text) == pytest.approx((factor, offset))
    assert parse_scale("servo.1", scale_text("servo.1", factor, offset)) == pytest.approx((factor, offset))


# SI Brochure, 9th edition: prefixes and derived units; the knot is 1852 m an hour, the foot 0.3048 m
@pytest.mark.parametrize(
    ("text", "quantity", "factor"),
    [
        ("cA", "current", 0.01), ("cV", "voltage", 0.01), ("dm/s", "velocity", 0.1), ("‰", "share", 0.001),
        ("0.1 deg", "angle", 0.1), ("1e-7deg", "angle", 1e-7), ("knots", "velocity", 1852 / 3600), ("ft", "length", 0.3048),
        ("mrad/s", "rate", 0.05729577951308232), ("µs", "pulse", 1.0), ("kHz", "frequency", 1000.0), ("mm/s", "velocity", 0.001),
        ("cdeg/s", "rate", 0.01), ("km/h", "velocity", 1 / 3.6), ("m/s²", "acceleration", 1.0), ("°C", "temperature", 1.0),
    ],
)  # fmt: skip
def test_units_are_worth_what_the_standards_say(text: str, quantity: str, factor: float) -> None:
    assert {unit.quantity: unit.factor for unit in units_of(text)}[quantity] == pytest.approx(factor, rel=1e-12)


@pytest.mark.parametrize(
    ("role", "value", "is_possible"),
    [
        ("servo.1", -16.0, False), ("servo.1", 1505.0, True), ("servo.2", 2350.0, False), ("gyro.roll", 900.0, True),
        ("gyro.roll", 52_000.0, False), ("airspeed", 1530.0, False), ("altitude", 45_000.0, False), ("throttle", 30.0, False),
        ("battery_voltage", 12_370.0, False), ("attitude.roll", 1800.0, False), ("motor.1", 1.0, True),
    ],
)  # fmt: skip
def test_numbers_that_no_craft_can_have_stop_the_answer(role: str, value: float, is_possible: bool) -> None:
    channels = {role: np.full(500, value), "gyro.pitch": np.zeros(500)}
    found = impossible(Recording.of(channels, sample_rate_hz=50.0))
    assert (role not in found) == is_possible
    flight = Flight(Recording.of(channels, sample_rate_hz=50.0), craft=CraftFacts(kind="fixed_wing"))
    assert flight.recording.has(role) == is_possible
    findings = analyse(flight, only=("judgement",)).judgement.findings
    assert [one.code for one in findings if one.code == "check_unit"] == ([] if is_possible else ["check_unit"])


def test_a_few_wild_samples_are_no_wrong_unit() -> None:
    values = np.full(5000, 100.0)
    values[[7, 900, 4000]] = 1e6
    assert impossible(Recording.of({"gyro.roll": values}, sample_rate_hz=1000.0)) == {}


@pytest.mark.parametrize("trim_us", [-1521.0, 720.0])
def test_no_slip_moves_a_servo_beyond_its_travel(trim_us: float) -> None:
    surface = Surface(servo=1, role="aileron", direction=1, centre_us=1505.0, throw_us=400.0)
    with pytest.raises(InputError, match="check the unit"):
        new_centres([surface], {"roll": trim_us})


@pytest.mark.parametrize(
    ("need", "words"),
    [
        (Need(rate_hz=1000), "1000 Hz or more"), (Need(seconds=20), "20 s of flight"),
        (Need(all_of=("motor.",)), "motor commands"), (Need(any_of=("gyro_raw.", "accel.")), "raw gyro or accel"),
        (Need(rate_hz=500, seconds=5, all_of=("gyro.",)), ""),
    ],
)  # fmt: skip
def test_a_need_says_what_is_lacking(need: Need, words: str) -> None:
    found = need.lacking(Recording.of({"gyro.roll": np.ones(5000)}, sample_rate_hz=500.0))
    assert words in found
    assert bool(found) == bool(words)
