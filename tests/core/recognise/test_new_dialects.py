"""Dialects nobody tuned the recogniser to: a role is right or left open, never wrong with confidence."""

from dataclasses import dataclass

import pytest

from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise.propose import propose
from nembrit.core.records.units import split_header
from tests.newdialects import MULTIROTORS, PLANES, NewDialect

ALL = {**MULTIROTORS, **PLANES}


@dataclass
class Score:
    right: int
    left_open: int
    wrong: list[str]
    surely_wrong: list[str]


def score(dialect: NewDialect) -> Score:
    content, roles = dialect.written()
    raw = read_raw(content)
    table = propose(raw).tables[0]
    right, left_open, wrong, surely = 0, 0, [], []
    for place, (use, (header, role)) in enumerate(zip(table.columns, roles.items(), strict=True)):
        assert use.name in (header, split_header(header)[0])
        found = "time" if place == table.clock.column else use.role or ""
        if found == role:
            right += 1
        elif not found:
            left_open += 1
        else:
            wrong.append(f"{header}: {found}, not {role or 'none'} ({use.confidence})")
            surely += [wrong[-1]] if use.confidence > 0.7 else []
    return Score(right, left_open, wrong, surely)


@pytest.mark.parametrize("name", ALL)
def test_a_role_is_right_or_left_open(name: str) -> None:
    found = score(ALL[name])
    total = found.right + found.left_open + len(found.wrong)
    assert found.surely_wrong == []
    assert found.right + found.left_open >= 0.95 * total, found.wrong
    assert found.right >= 0.5 * total
