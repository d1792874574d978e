"""`nembrit sight` from files."""

import json
from pathlib import Path

import jsonschema
import pytest

from nembrit.cli import UNREADABLE, WRONG_USE, main

RIDGE = "distance_m,ground_m\n" + "".join(f"{d},{32 if d == 1000 else 0}\n" for d in range(0, 2001, 25))


@pytest.fixture
def profile(tmp_path: Path) -> Path:
    path = tmp_path / "ridge.csv"
    path.write_text(RIDGE)
    return path


def sight(profile: Path, *more: str) -> list[str]:
    return ["sight", str(profile), "--frequency-mhz", "2400", "--antenna-m", "2", "--json", *more]


def test_heights_over_a_ridge_and_a_path_above_it(profile: Path, tmp_path: Path, capsys) -> None:
    path = tmp_path / "path.csv"
    path.write_text("500,20\n2000,60\n2000,80\n")
    assert main(sight(profile, "--heights", str(path))) == 0
    told = json.loads(capsys.readouterr().out)
    jsonschema.validate(told, json.loads(Path("docs/schemas/sight.schema.json").read_text(encoding="utf-8")))
    assert told["geometric_m"][-1] == pytest.approx(62.118, abs=1e-3)  # as by hand in test_wind
    assert told["clear_m"][-1] > told["geometric_m"][-1]
    assert told["path"]["in_sight"] == [True, False, True]
    assert "datum" in told["notes"][0]


@pytest.mark.parametrize(
    ("text", "more", "status", "told"),
    [
        ("distance,ground\n0,1\n10,2\n5,3\n", (), WRONG_USE, "a profile needs rising distances and no"),
        ("a,b\nx,y\n", (), UNREADABLE, "two columns of numbers"),
        ("", (), UNREADABLE, "cannot be read as a table"),
        (RIDGE, ("--antenna-m", "-2"), WRONG_USE, "an antenna stands"),
        (RIDGE, ("--heights", "nowhere.csv"), WRONG_USE, "nowhere.csv"),
    ],
)
def test_what_is_no_profile_is_said(tmp_path: Path, capsys, text: str, more: tuple[str, ...], status: int, told: str) -> None:
    path = tmp_path / "profile.csv"
    path.write_text(text)
    assert main(sight(path, *more)) == status
    assert told in capsys.readouterr().err
