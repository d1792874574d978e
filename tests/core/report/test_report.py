"""The documents that scripts rely on, against their published schemas; the command line; the core's purity."""

import json
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest

from nembrit import cli
from nembrit.core.setup.card import card_to_json
from nembrit.core.setup.controller import controller_to_json
from nembrit.core.setup.craft import craft_to_json
from tests.flying import CARD, HEX, controller, log_file

SCHEMAS = Path(__file__).parents[3] / "docs" / "schemas"


def matches(document: dict, name: str) -> None:
    jsonschema.validate(document, json.loads((SCHEMAS / f"{name}.schema.json").read_text()))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("cli")
    for name, document in (
        ("craft", craft_to_json(HEX)),
        ("config", controller_to_json(controller())),
        ("card", card_to_json(CARD)),
        ("shown", controller_to_json(controller()) | {"gain_units": "shown"}),
        ("chain", {"gyro": [{"kind": "lowpass_2", "cutoff_hz": 250}], "d_term": [{"kind": "lowpass_2", "cutoff_hz": 90}]}),
    ):
        (made / f"{name}.json").write_text(json.dumps(document))
    for name, seed, loose in (("before", 5, 1.0), ("after", 6, 0.0)):
        (made / f"{name}.csv").write_bytes(log_file(seed, loose))
    (made / "slow.csv").write_text("time [s],other.lamp [lx]\n" + "".join(f"{k},1\n" for k in range(20)))
    (made / "broken.csv").write_text("time [s],gyro.roll [deg/s]\n0,1\n1,x\n")
    (made / "bad.json").write_text("{")
    return made


def run(folder: Path, capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, str, str]:
    status = cli.main([str(folder / word) if (folder / word).exists() else word for word in words])
    captured = capsys.readouterr()
    return status, captured.out, captured.err


def test_input_documents_match_their_schemas() -> None:
    matches(craft_to_json(HEX), "craft")
    matches(controller_to_json(controller()), "configuration")
    matches(card_to_json(CARD), "card")


def test_analyse_prints_one_report(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, out, _ = run(folder, capsys, "analyse", "before.csv", "--craft", "craft.json", "--window", "2:28", "--json")
    report = json.loads(out)
    matches(report, "report")
    assert status == 0
    assert report["findings"][0]["code"] == "loose_mount"
    assert report["log"]["window_s"] == [2, 28]
    assert report["response"]["roll"]["excitation"] == "good"


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "None",
        "config.json-True",
        "shown.json",
    ),
)
@pytest.mark.parametrize(("config", "is_checked"), [("config.json", True), ("shown.json", True), (None, False)])
def test_filters_prints_what_a_chain_costs_and_leaves(
    folder: Path, capsys: pytest.CaptureFixture[str], config: str | None, is_checked: bool
) -> None:
    words = [
        "filters",
        "after.csv",
        "--chain",
        "chain.json",
        "--craft",
        "craft.json",
        *(("--config", config) if config else ()),
        "--json",
    ]
    status, out, _ = run(folder, capsys, *words)
    told = json.loads(out)
    matches(told, "filters")
    assert status == 0
    assert told["delay_ms"]["gyro"] == pytest.approx(0.9, rel=0.02), "250 Hz, second order: √2 / (2 π 250)"
    assert bool(told["check"]) is is_checked
    assert is_checked or "unknown filters" in " ".join(told["notes"])
    if is_checked:
        assert abs(told["check"]["roll"]["error_db"]["motion"]) < 0.1


def test_predict_prints_every_axis_as_flown_and_with_the_change(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    words = (
        "predict",
        "after.csv",
        "--craft",
        "craft.json",
        "--config",
        "config.json",
        "--set",
        "roll.p=1.2",
        "roll.d=1.2",
        "--json",
    )
    status, out, _ = run(folder, capsys, *words)
    told = json.loads(out)
    matches(told, "prediction")
    assert (status, told["set"]) == (0, {"roll.p": 1.2, "roll.d": 1.2})
    assert told["response"]["roll"]["rise_time_ms"] < told["flown"]["roll"]["rise_time_ms"]
    assert told["response"]["pitch"] == told["flown"]["pitch"]


@pytest.mark.long("its other cases ask the same", only=("words0",))
@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("predict", "after.csv", "--json"), "say what to change"),
        (("predict", "after.csv", "--set", "roll.x=2", "--json"), "--set takes AXIS.TERM=RATIO"),
        (("predict", "after.csv", "--set", "roll.p=zwei", "--json"), "--set takes AXIS.TERM=RATIO"),
        (("filters", "after.csv", "--chain", "craft.json", "--json"), "a chain has the places chip, gyro"),
        (("filters", "after.csv", "--chain", "bad.json", "--json"), "is not JSON"),
    ],
)
def test_wrong_use_of_the_benches_says_what_is_wrong(
    folder: Path, capsys: pytest.CaptureFixture[str], words: tuple[str, ...], said: str
) -> None:
    status, out, told = run(folder, capsys, *words)
    assert (status, out) == (2, "")
    assert said in told


def test_inspect_prints_the_log_part_alone(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, out, _ = run(folder, capsys, "inspect", "after.csv", "--json")
    part = json.loads(out)
    assert (status, part["rows_read"], part["sample_rate_hz"]) == (0, 60_000, pytest.approx(2000))


def test_compare_prints_one_comparison(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    words = ("compare", "--before", "before.csv", "--after", "after.csv", "--primary", "motion_noise.roll:lower", "--json")
    status, out, _ = run(folder, capsys, *words)
    comparison = json.loads(out)
    matches(comparison, "comparison")
    assert status == 0
    assert comparison["metrics"][0]["primary"]
    assert comparison["metrics"][0]["verdict"] == "not_enough"


def test_simulate_writes_a_log_that_reads_back(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    words = (
        "simulate",
        "craft.json",
        "--config",
        "config.json",
        "--card",
        "card.json",
        "--seed",
        "6",
        "-o",
        str(folder / "new.csv"),
    )
    assert run(folder, capsys, *words)[0] == 0
    assert len((folder / "new.csv").read_bytes()) > 5_000_000


@pytest.mark.parametrize(
    ("words", "status", "message"),
    [
        (("inspect", "nowhere.csv"), 3, "No such file"),
        (("inspect", "broken.csv"), 3, "row 3, column 2"),
        (("analyse", "slow.csv"), 4, ""),
        (("analyse", "after.csv", "--window", "5"), 2, "START:END"),
        (("analyse", "after.csv", "--window", "5:500"), 2, "must lie within"),
        (("analyse", "after.csv", "--craft", "bad.json"), 2, "is not JSON"),
        (("compare", "--before", "after.csv", "--after", "after.csv", "--primary", "speed:lower"), 2, "is no metric"),
        (
            ("simulate", "craft.json", "--config", "craft.json", "--card", "card.json", "--seed", "1", "-o", "x"),
            2,
            "expected a configuration",
        ),
        (
            ("simulate", "craft.json", "--config", "config.json", "--card", "card.json", "--seed", "1", "-o", "/nowhere/x"),
            2,
            "cannot be written",
        ),
    ],
)
def test_exit_status_and_sentence(
    folder: Path, capsys: pytest.CaptureFixture[str], words: tuple[str, ...], status: int, message: str
) -> None:
    found, out, err = run(folder, capsys, *words)
    assert (found, message in err) == (status, True), err
    assert status == 4 or out == ""


def test_the_core_knows_no_django() -> None:
    code = (
        "import pkgutil, importlib, sys, nembrit.core as c\n"
        "[importlib.import_module(m.name) for m in pkgutil.walk_packages(c.__path__, 'nembrit.core.')]\n"
        "sys.exit('django' in sys.modules)"
    )
    environment = {"PYTHONPATH": str(Path(cli.__file__).parents[1]), "PATH": ""}
    assert subprocess.run([sys.executable, "-c", code], env=environment, check=False).returncode == 0
