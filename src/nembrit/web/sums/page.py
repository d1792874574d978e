"""The page of sums: each filled in from the craft or from the address, and worked out."""

from collections.abc import Mapping

from nembrit.core.errors import CoreError
from nembrit.web.common.fields import number
from nembrit.web.hangar.models import Craft
from nembrit.web.sums.electric import electric_sheets
from nembrit.web.sums.facts import facts_of
from nembrit.web.sums.flying import flying_sheets
from nembrit.web.sums.sheet import Filled, Sheet, Sum


def sums_of(craft: Craft, given: Mapping[str, str]) -> list[Sum]:
    """Every sum for this kind of craft, in the order of the page."""
    facts = facts_of(craft)
    return [_worked(sheet, given) for sheet in (*flying_sheets(craft, facts), *electric_sheets(craft, facts))]


def _worked(sheet: Sheet, given: Mapping[str, str]) -> Sum:
    typed = {box.name: str(given.get(box.name, _plain(box.value))).strip() for box in sheet.boxes}
    filled = [Filled(box=box, text=typed[box.name]) for box in sheet.boxes]
    is_open = any(box.name in given for box in sheet.boxes)
    try:
        values = {box.name: number(typed[box.name], box.label) for box in sheet.boxes}
        answer = sheet.work(values)
    except CoreError as error:
        return Sum(sheet=sheet, filled=filled, answer=None, problem=str(error), is_open=True)
    return Sum(sheet=sheet, filled=filled, answer=answer, is_open=is_open)


def _plain(value: float) -> str:
    """Four significant digits, whole numbers as they are.

    >>> _plain(4000.0), _plain(1.62557), _plain(14000.0)
    ('4000', '1.626', '14000')
    """
    return f"{value:.0f}" if float(value).is_integer() else f"{float(f'{value:.4g}'):g}"
