"""Filters that turn stored numbers into text with a unit and a sensible number of digits."""

import math
from collections.abc import Sequence

from django import template
from django.utils.html import format_html

from nembrit.core.causes.table import BY_CODE
from nembrit.core.records.roles import spoken
from nembrit.web.common.once import FIELD, new_mark

register = template.Library()
register.filter("spoken", spoken)
_MINUS = "\u2212"
_THIN = "\u202f"


@register.simple_tag
def once() -> str:
    """A hidden field by which a form that is sent twice is known."""
    return format_html('<input type="hidden" name="{}" value="{}">', FIELD, new_mark())


@register.filter
def digits(value: object, count: int = 3) -> str:
    """`count` significant digits, a true minus sign, a dash for nothing."""
    if not isinstance(value, (int, float)) or not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    places = max(0, count - 1 - math.floor(math.log10(abs(value))))
    return f"{value:.{places}f}".replace("-", _MINUS)


@register.filter
def signed(value: float | None, count: int = 2) -> str:
    """Like `digits`, with a plus sign for gains."""
    text = digits(value, count)
    return f"+{text}" if value is not None and value > 0 else text


@register.filter
def fixed(value: float | None, places: int = 0) -> str:
    """So many places, a true minus sign, no minus before nought, a dash for nothing."""
    if value is None or not math.isfinite(value):
        return "–"
    return f"{round(value, places) + 0.0:.{places}f}".replace("-", _MINUS)


@register.filter
def p_value(value: float | None) -> str:
    """A p as it is told: two digits, and nothing smaller than a thousandth, which no handful of flights can back."""
    return "< 0.001" if value is not None and value < 0.001 else digits(value, 2)


@register.filter
def interval(pair: Sequence[float] | None, count: int = 2) -> str:
    """“2.1 to 3.4”."""
    return "" if not pair or None in pair else f"{digits(pair[0], count)} to {digits(pair[1], count)}"


@register.filter
def open_interval(pair: Sequence[float | None] | None) -> str:
    """“−31 to −18”, “at most −18” or “at least +4”: changes whose one side may be open."""
    if not pair:
        return ""
    low, high = pair
    if low is None or high is None:
        return f"at most {signed(high)}" if low is None else f"at least {signed(low)}"
    return f"{signed(low)} to {signed(high)}"


@register.filter
def scaled(value: float | None, factor: float) -> float | None:
    """A stored core unit in the unit that people read."""
    return None if value is None else value * factor


@register.filter
def pair_scaled(pair: Sequence[float] | None, factor: float) -> list[float] | None:
    """Both edges of an interval in the unit that people read."""
    return None if pair is None else [edge * factor for edge in pair]


@register.filter
def percent(ratio: float | None) -> str:
    return "–" if ratio is None else f"{round(ratio * 100)}{_THIN}%"


@register.filter
def plain(value: float) -> str:
    """A number for a field: as few digits as say it, no thin spaces."""
    return f"{value:.6g}"


@register.filter
def slide(ratio: float) -> int:
    """Where a slider from half to double stands for a ratio, from −100 to 100."""
    return round(max(-100.0, min(100.0, 100 * math.log2(ratio))))


@register.filter
def likelihood(ratio: float) -> str:
    """A word for how likely a cause is."""
    words = ((0.8, "very likely"), (0.5, "likely"), (0.25, "possible"), (0.0, "hardly likely"))
    return next(word for least, word in words if ratio >= least)


@register.filter
def in_ten(ratio: float) -> str:
    """“8 of 10”."""
    return f"{round(10 * ratio)} of 10"


@register.filter
def minutes(seconds: float | None) -> str:
    """“0:31”."""
    if seconds is None:
        return "–"
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


@register.filter
def megabytes(size_bytes: int) -> str:
    return f"{size_bytes / 1e6:.1f}{_THIN}MB" if size_bytes >= 1e5 else f"{size_bytes / 1e3:.1f}{_THIN}kB"


@register.filter
def item(mapping: dict[str, object], key: str) -> object:
    """A value of a dict by a key that is itself a variable."""
    return mapping.get(key) if mapping else None


@register.filter
def at(values: list[object], index: int) -> object:
    """An entry of a list by a position that is itself a variable."""
    return values[index] if 0 <= index < len(values) else None


@register.filter
def add_s(seconds: float, change_s: str) -> str:
    """A time moved by some seconds, for an address."""
    return f"{seconds + float(change_s):.3f}"


@register.filter
def title_of(code: str) -> str:
    """A finding's code in words."""
    cause = BY_CODE.get(code)
    return code.replace("_", " ") if cause is None else cause.title or cause.name


@register.filter
def words(text: str) -> list[str]:
    return text.split()
