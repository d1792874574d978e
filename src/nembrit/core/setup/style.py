"""The way in which a tuner writes settings, so that what Nembrit gives back can be pasted where theirs came from."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.pasted import read_pasted

_SECTIONED = re.compile(r"^\[([^\[\]]+)\] (.+)$")
# what may stand between name and value, in the order in which a line is parted by it
_MARKS = tuple(re.compile(mark) for mark in (r" *= *", r"\t+", r" *: *", r" {2,}", r" "))


@dataclass(frozen=True, slots=True, kw_only=True)
class Style:
    """A word before every name (or nothing), and what stands between a name and its value."""

    verb: str = ""
    between: str = " = "


PLAIN = Style()


def style_of(text: str) -> Style:
    """How most lines of a pasted text are written; the plain style where its lines are read in another way.

    >>> style_of("set p_roll 42\\nset d_roll 30\\nset gyro_hz 210\\nset mode fast"), style_of("p=1\\nd=2").between
    (Style(verb='set', between=' '), '=')
    """
    pasted = read_pasted(text)
    verb = f"{pasted.verb} " if pasted.verb else ""
    between: Counter[str] = Counter()
    for line in text.splitlines():
        bare = line.strip().removeprefix(verb)
        found = next((place for mark in _MARKS if (place := mark.search(bare))), None)
        if found:
            between[found[0]] += 1
    if not between:
        return PLAIN
    style = Style(verb=pasted.verb, between=between.most_common(1)[0][0])
    return style if _reads_back(pasted.settings, style) else PLAIN


def _reads_back(settings: Sequence[Setting], style: Style) -> bool:
    return read_pasted(styled(settings, style)).settings == tuple(settings)


def styled(settings: Sequence[Setting], style: Style = PLAIN) -> str:
    """Settings as lines in a style, those of a section below its heading.

    >>> styled([Setting("[roll] p", "42"), Setting("[roll] d", "30")], Style(between=": "))
    '[roll]\\np: 42\\nd: 30\\n'
    """
    lines: list[str] = []
    section = ""
    for one in settings:
        found = _SECTIONED.match(one.name)
        if found and found[1] != section:
            section = found[1]
            lines.append(f"[{section}]")
        name = found[2] if found else one.name
        verb = f"{style.verb} " if style.verb else ""
        lines.append(f"{verb}{name}{style.between}{one.value}")
    return "".join(f"{line}\n" for line in lines)
