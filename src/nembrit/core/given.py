"""What comes in a document from outside becomes a number or a text here; what is none is None."""

import math


def finite(value: object, *, low: float = -1e12, high: float = 1e12) -> float | None:
    """A number of a document within limits; None for a truth value, a text, one that is not finite, and one of 400 digits.

    >>> finite(3), finite(True), finite("3"), finite(10**400), finite(5, high=4)
    (3.0, None, None, None, None)
    """
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return number if math.isfinite(number) and low <= number <= high else None


def clean_text(value: object, *, most: int) -> str:
    """A text as every database, page and file takes it: without NUL, other control signs and halves of characters.

    >>> clean_text("a" + chr(0) + "b" + chr(0xD800) + "c\\n", most=10), clean_text(None, most=5), clean_text("long", most=2)
    ('abc', '', 'lo')
    """
    text = "" if value is None else str(value)
    kept = "".join(
        sign for sign in text if sign in "\n\t" or (ord(sign) >= 32 and not 0xD800 <= ord(sign) <= 0xDFFF and sign != "\x7f")
    )
    return kept.strip()[:most]
