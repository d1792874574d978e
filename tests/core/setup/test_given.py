"""Settings given out and taken in again, and restore lists."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting, apply_changes, diff_settings, settings_text
from nembrit.core.setup.given import as_csv, as_json, from_table, restore_list
from nembrit.core.setup.namemap import Meaning
from nembrit.core.setup.pasted import read_pasted

SETTINGS = (Setting("p on roll", "43"), Setting('odd, "quoted"', "a; b"), Setting("lamp", "amber"), Setting("list", "1, 2, 3"))
NAMES = {"p on roll": Meaning("gain.rate.roll.p", 6e-5), "lamp": Meaning("other")}


@pytest.mark.parametrize("form", [as_csv, as_json])
def test_what_is_given_out_is_read_back_identically(form) -> None:
    assert from_table(form(SETTINGS, NAMES)) == SETTINGS


@given(st.lists(st.tuples(st.text(min_size=1, max_size=9), st.text(max_size=9)), max_size=6))
def test_any_names_and_values_survive(rows: list[tuple[str, str]]) -> None:
    settings = tuple(Setting(name, value) for name, value in rows)
    assert from_table(as_json(settings, {})) == settings


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("name,value\np on roll\n", "line 2: a name and a value were expected"),
        ("{", "this JSON has no settings as"),
        ('{"settings": [{"name": "a"}]}', "this JSON has no settings as"),
        ('{"settings": [{"name": "a", "value": [1]}]}', "should be text or a number"),
        ("[" * 5 + "{", None),
        ('{"settings": ' + "[" * 100_000, "nested too deeply"),
    ],
)
def test_what_is_not_whole_is_refused(text: str, message: str | None) -> None:
    if message is None:
        assert from_table(text) is None
        return
    with pytest.raises(InputError, match=message):
        from_table(text)


def test_a_restore_list_leads_from_any_state_to_any_other() -> None:
    one = (Setting("p", "43"), Setting("d", "30"), Setting("lamp", "red"))
    other = (Setting("d", "24"), Setting("p", "43.0"), Setting("i", "40"))
    found = restore_list(one, other)
    assert [line.name for line in found.lines] == ["d", "i"]
    assert found.absent == ("lamp",)
    typed = {line.name: line.value for line in read_pasted(found.text).settings}
    kept = apply_changes(one, {name: value for name, value in typed.items() if name != "i"})
    assert {change.name for change in diff_settings(kept, other)} == {"i", "lamp"}
    assert restore_list(one, one).text == ""
    assert settings_text(found.lines) == found.text
