"""The command line with files that no one should send: an exit status and a sentence, never a traceback."""

import json
import tomllib
from pathlib import Path

import pytest

from nembrit import cli
from nembrit.core.setup.card import card_to_json
from nembrit.core.setup.controller import controller_to_json
from nembrit.core.setup.craft import craft_to_json
from tests.flying import CARD, HEX, controller, log_file

CRAFT, CONFIG = craft_to_json(HEX), controller_to_json(controller())


@pytest.fixture
def run(tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    def do(*words: object) -> tuple[int, str]:
        status = cli.main([str(word) for word in words])
        return status, capsys.readouterr().err

    (tmp_path / "log.csv").write_bytes(log_file(5, 1.0))
    (tmp_path / "craft.json").write_text(json.dumps(CRAFT))
    (tmp_path / "config.json").write_text(json.dumps(CONFIG))
    (tmp_path / "card.json").write_text(json.dumps(card_to_json(CARD)))
    return do


def test_the_version_is_one_everywhere(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit):
        cli.main(["--version"])
    root = Path(__file__).parents[3]
    version = tomllib.loads((root / "pyproject.toml").read_text())["project"]["version"]
    assert capsys.readouterr().out == f"Nembrit {version}\n"
    assert f"## {version}\n" in (root / "CHANGELOG.md").read_text()


@pytest.mark.parametrize("step_s", ["1e-12", "1e-9", "1e9"])
def test_steps_that_are_no_log_s(run, tmp_path: Path, step_s: str) -> None:
    rows = "".join(f"{k * float(step_s):.15e},{k % 7}\n" for k in range(2000))
    (tmp_path / "fast.csv").write_text(f"time [s],gyro.roll [deg/s]\n{rows}")
    status, told = run("analyse", tmp_path / "fast.csv", "--json")
    assert (status, "s apart" in told) == (3, True), told


@pytest.mark.parametrize("option", ["--craft", "--config"])
def test_brackets_without_end(run, tmp_path: Path, option: str) -> None:
    (tmp_path / "deep.json").write_text('{"schema": ' + "[" * 100_000 + "]" * 100_000 + "}")
    status, told = run("analyse", tmp_path / "log.csv", option, tmp_path / "deep.json", "--json")
    assert (status, "nested too deeply" in told) == (3, True)


@pytest.mark.parametrize(
    ("changed", "told"),
    [
        ({"motors": [{"roll": 1e999, "pitch": 0, "yaw": 1}] * 4}, "motor 1, roll goes from -100 to 100"),
        ({"motors": [{"roll": "x", "pitch": 0, "yaw": 1}]}, "should be a number"),
        ({"motors": [{"pitch": 0, "yaw": 1}]}, "not complete"),
        ({"motors": 7}, "not complete"),
        ({"mass_g": -600}, "a mass in g goes from 1 to 100000, got -600"),
        ({"mass_g": 0.9}, "a mass in g goes"),
        ({"propeller": {"diameter_in": 0.4}}, "diameter in inches goes from 0.5"),
        ({"propeller": {"blades": 13}}, "number of blades goes from 1 to 12"),
        ({"propeller": [1]}, "not complete"),
        ({"cells": 21}, "number of cells goes from 1 to 20"),
        ({"kind": "balloon"}, "is no kind of craft"),
    ],
)
def test_a_craft_beyond_sense(run, tmp_path: Path, changed: dict[str, object], told: str) -> None:
    (tmp_path / "craft.json").write_text(json.dumps({**CRAFT, **changed}))
    status, said = run("analyse", tmp_path / "log.csv", "--craft", tmp_path / "craft.json", "--json")
    assert (status, told in said) == (2, True), said


@pytest.mark.parametrize(
    ("changed", "told"),
    [
        ({"loop_rate_hz": 49}, "loop_rate_hz goes from 50"),
        ({"loop_rate_hz": 1e999}, "loop_rate_hz goes from 50"),
        ({"gains": {axis: {"p": -1} for axis in ("roll", "pitch", "yaw")}}, "gain p of roll goes from 0"),
        ({"filters": {"gyro": [{"kind": "lowpass_1", "cutoff_hz": 0}]}}, "the frequency of a lowpass_1"),
        ({"filters": {"gyro": [{"kind": "lowpass_2", "cutoff_hz": 90, "q": 0}]}}, "the q of a lowpass_2"),
        ({"idle": "high"}, "idle should be a number"),
    ],
)
def test_a_configuration_beyond_sense(run, tmp_path: Path, changed: dict[str, object], told: str) -> None:
    (tmp_path / "config.json").write_text(json.dumps({**CONFIG, **changed}))
    files = ("--config", tmp_path / "config.json", "--card", tmp_path / "card.json", "-o", tmp_path / "out.csv")
    status, said = run("simulate", tmp_path / "craft.json", *files, "--seed", 1)
    assert (status, told in said) == (2, True), said


@pytest.mark.parametrize(
    "world",
    [{"log_rate_hz": 5}, {"log_rate_hz": 1e999}, {"wash_ratio": -1}, {"wind_m_s": "strong"}, {"colour": 1}, {"faults": "loose"},
     {"faults": {"loose_mount": "much"}}, {"faults": {"spike_axis": 3}}, {"traits": 3}, {"laws": {"x": 1}}, {"second_gyro": [1]}],
)  # fmt: skip
def test_a_world_beyond_sense(run, tmp_path: Path, world: dict[str, object]) -> None:
    (tmp_path / "world.json").write_text(json.dumps(world))
    files = ("--config", tmp_path / "config.json", "--card", tmp_path / "card.json", "-o", tmp_path / "out.csv")
    status, said = run("simulate", tmp_path / "craft.json", *files, "--world", tmp_path / "world.json", "--seed", 1)
    assert (status, bool(said.strip())) == (2, True)


@pytest.mark.parametrize("rules", [0.5, "stop", [3], {"a": 1}])
def test_a_card_with_rules_of_another_form(run, tmp_path: Path, rules: object) -> None:
    (tmp_path / "card.json").write_text(json.dumps(card_to_json(CARD) | {"stop_criteria": rules}))
    files = ("--config", tmp_path / "config.json", "--card", tmp_path / "card.json", "-o", tmp_path / "out.csv")
    status, said = run("simulate", tmp_path / "craft.json", *files, "--seed", 1)
    assert (status, "stop_criteria" in said) == (2, True), said


@pytest.mark.parametrize("form", ["one row an hour", "numbers near the largest", "22 digits", "halves of characters"])
def test_logs_of_no_sense_end_in_sentences(run, tmp_path: Path, form: str) -> None:
    head, *rows = log_file(5, 1.0).decode().splitlines()[::20]
    cells = [row.split(",") for row in rows]
    place = head.split(",").index("gyro.roll [deg/s]")
    for k, row in enumerate(cells):
        if form == "one row an hour":
            row[0] = str(3600 * k)
        elif form == "numbers near the largest":
            row[place] = ("1e308", "-1.5e308", "1.7e308")[k % 3]
        elif form == "22 digits":
            row[place] = str(1234567890123456789012 + k)
    if form == "halves of characters":
        names = head.split(",")
        lines = [json.dumps(dict(zip(names, map(float, row), strict=True)) | {"mode\ud800": "a\udc00"}) for row in cells]
        text, name = "\n".join(lines), "odd.jsonl"
    else:
        text, name = "\n".join([head, *map(",".join, cells)]), "odd.csv"
    (tmp_path / name).write_text(text)
    status, _ = run("analyse", tmp_path / name, "--json")
    assert status in (0, 3, 4)
