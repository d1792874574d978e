"""Settings given out and taken in as text, CSV or JSON, and the list that leads from one state to another."""

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting, diff_settings, settings_text
from nembrit.core.setup.namemap import NameMap

SCHEMA = "nembrit.settings/1"
_HEADER = ("name", "value")


def as_csv(settings: Sequence[Setting], names: NameMap) -> str:
    """RFC 4180: name, value, and what Nembrit takes it for."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow([*_HEADER, "meaning"])
    for one in settings:
        meaning = names.get(one.name)
        writer.writerow([one.name, one.value, meaning.key if meaning else ""])
    return out.getvalue()


def as_json(settings: Sequence[Setting], names: NameMap) -> str:
    """`nembrit.settings/1`: names and values as shown, with meaning and scale where they are known."""
    rows: list[dict[str, Any]] = []
    for one in settings:
        row: dict[str, Any] = {"name": one.name, "value": one.value}
        if (meaning := names.get(one.name)) is not None:
            row["meaning"] = meaning.key
            if meaning.scale is not None:
                row["scale"] = meaning.scale
        rows.append(row)
    return json.dumps({"schema": SCHEMA, "settings": rows}, ensure_ascii=False, indent=1) + "\n"


def from_table(text: str) -> tuple[Setting, ...] | None:
    """Settings of a CSV with the header name,value or of a `nembrit.settings/1` document; None for any other text.

    Raises InputError for one of these that is not whole.

    >>> from_table("name,value\\np on roll,42\\n")
    (Setting(name='p on roll', value='42'),)
    >>> from_table("p on roll = 42") is None
    True
    """
    start = text.lstrip("\ufeff \t\r\n")
    if start.startswith("{"):
        return _from_json(start)
    first = start.split("\n", 1)[0].strip().lower().replace('"', "").split(",")
    return _from_csv(start) if tuple(part.strip() for part in first[:2]) == _HEADER else None


def _from_csv(text: str) -> tuple[Setting, ...]:
    found = []
    for number, row in enumerate(csv.reader(io.StringIO(text, newline="")), start=1):
        if number == 1 or not any(part.strip() for part in row):
            continue
        if len(row) < 2:
            raise InputError(f"line {number}: a name and a value were expected")
        found.append(Setting(row[0].strip(), row[1].strip()))
    return tuple(found)


def _from_json(text: str) -> tuple[Setting, ...]:
    try:
        document = json.loads(text)
        rows = document["settings"]
        found = tuple(Setting(_text(row, "name"), _text(row, "value")) for row in rows)
    except RecursionError:
        raise InputError("this JSON is nested too deeply") from None
    except (ValueError, KeyError, TypeError) as error:
        raise InputError(f"this JSON has no settings as “{SCHEMA}” does: {error}") from None
    return found


def _text(row: Mapping[str, Any], key: str) -> str:
    value = row[key]
    if isinstance(value, bool) or not isinstance(value, (str, int, float)):
        raise TypeError(f"“{key}” should be text or a number")
    return str(value)


@dataclass(frozen=True, slots=True, kw_only=True)
class RestoreList:
    """What to type to go from one state to another, and what the other never had."""

    lines: tuple[Setting, ...]
    absent: tuple[str, ...]  # settings that only the state left behind has: they stay, or go back to their default

    @property
    def text(self) -> str:
        return settings_text(self.lines)


def restore_list(present: Sequence[Setting], wanted: Sequence[Setting]) -> RestoreList:
    """Only what differs, in the order of the state that is wanted.

    >>> have, want = [Setting("p", "42"), Setting("new", "1")], [Setting("p", "40"), Setting("d", "30")]
    >>> restore_list(have, want).text, restore_list(have, want).absent
    ('p = 40\\nd = 30\\n', ('new',))
    """
    changes = {change.name: change for change in diff_settings(present, wanted)}
    lines = tuple(one for one in wanted if one.name in changes)
    return RestoreList(lines=lines, absent=tuple(change.name for change in changes.values() if change.after is None))
