"""Settings as people paste them: what is understood, and every line that is doubtful."""

import math
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting

_MOST_LINES = 5000
_MOST_TEXT = 200
_NOTE = re.compile(r"(^|\s)(#|;|//).*$")
_SECTION = re.compile(r"^\[([^\[\]]+)\]$")
# “roll: p=208 i=50 d=35”, or without a family before it: two pairs at least, each value a single word
_SEVERAL = re.compile(r"^(?:([^=:]{1,40}):\s*)?((?:[\w.]+\s*=\s*[^\s=,;]+[\s,;]+)+[\w.]+\s*=\s*[^\s=]+)$")
_ONE_OF_SEVERAL = re.compile(r"([\w.]+)\s*=\s*([^\s=,;]+)")
_NUMBERS = re.compile(r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?([,;]?\s+[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?)*$")
_VERB_RATIO, _VERB_LEAST = 0.8, 3  # a first word of so many lines is said before every name, and is no part of it


@dataclass(frozen=True, slots=True, kw_only=True)
class Doubt:
    """A line that is not understood, or that contradicts another."""

    line: int
    text: str
    why: str

    def __str__(self) -> str:
        return f"line {self.line}: {self.why}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Pasted:
    """What was understood of a pasted list, in its order."""

    settings: tuple[Setting, ...]
    doubts: tuple[Doubt, ...]
    verb: str = ""  # a word before every name that was dropped
    n_notes: int = 0  # lines and ends of lines that are notes


def read_pasted(text: str) -> Pasted:
    """Understand a list of names and values, whatever stands between them.

    Between a name and its value may stand ``=``, ``:``, a tab or blanks; notes begin with ``#``, ``;`` or ``//``, also at the
    end of a line; a section in brackets goes before the names below it; the same word before every name is dropped.

    >>> found = read_pasted("[roll]\\np: 42 // firm\\nd\\t30\\n[pitch]\\np 44, 45")
    >>> [(one.name, one.value) for one in found.settings]
    [('[roll] p', '42'), ('[roll] d', '30'), ('[pitch] p', '44, 45')]
    """
    lines = text.splitlines()
    if len(lines) > _MOST_LINES:
        raise InputError(f"{len(lines)} lines; at most {_MOST_LINES} can be taken")
    bare = [(number, line, _NOTE.sub("", line).strip()) for number, line in enumerate(lines, start=1)]
    verb = _verb([line for _, _, line in bare if line])
    settings: list[Setting] = []
    doubts: list[Doubt] = []
    first: dict[str, tuple[int, str]] = {}
    section = ""
    apart = [(number, whole, one) for number, whole, given in bare for one in _several(given)]
    for number, whole, line in apart:
        if heading := _SECTION.match(line):
            section = f"[{heading[1].strip()}] "
            continue
        if not line:
            continue
        pair = _parted(line.removeprefix(verb).strip() if verb else line)
        why = _doubt_about(pair, line)
        if pair and not why:
            name, value = section + pair[0], pair[1]
            if name not in first:
                first[name] = (number, value)
                settings.append(Setting(name, value))
                continue
            before, kept = first[name]
            same = "with the same value" if kept == value else f"with another value, “{kept}”"
            why = f"“{name}” is in line {before} already, {same}"
        doubts.append(Doubt(line=number, text=whole.strip()[:_MOST_TEXT], why=why))
    notes = sum(bool(_NOTE.search(line)) for line in lines)
    return Pasted(settings=tuple(settings), doubts=tuple(doubts), verb=verb.strip(), n_notes=notes)


def parse_settings(text: str) -> tuple[Setting, ...]:
    """The same where nothing may be doubtful. Raises InputError naming every doubtful line, or that there is nothing.

    >>> parse_settings("p on roll = 42\\n# a note\\nmode=fast")
    (Setting(name='p on roll', value='42'), Setting(name='mode', value='fast'))
    """
    found = read_pasted(text)
    if found.doubts:
        shown = "; ".join(map(str, found.doubts[:8]))
        raise InputError(shown + (f"; and {len(found.doubts) - 8} more" if len(found.doubts) > 8 else ""))
    if not found.settings:
        raise InputError("no settings found; paste lines such as “p on roll = 42”")
    return found.settings


def _verb(lines: Sequence[str]) -> str:
    """A word that stands before nearly every name, with the blank behind it; nothing where there is none."""
    first = Counter(line.split()[0] for line in lines if len(line.split()) >= 3 and line.split()[1] not in ("=", ":"))
    if not first:
        return ""
    word, times = first.most_common(1)[0]
    others = [line for line in lines if not _SECTION.match(line)]
    rest = [line.removeprefix(f"{word} ").strip() for line in others if line.startswith(f"{word} ")]
    is_verb = times >= max(_VERB_LEAST, _VERB_RATIO * len(others)) and word.isalpha()
    # “p roll = 1, p pitch = 2, p yaw = 3” share a first word, too: there what follows begins nothing else
    return f"{word} " if is_verb and (len(others) > times or _go_apart(rest)) else ""


def _go_apart(rest: Sequence[str]) -> bool:
    """Whether names begin with words of several kinds: then the word before them says nothing of them."""
    begins = {re.split(r"[\s_.:=\t]", line)[0] for line in rest}
    return len(begins) >= _VERB_LEAST and any("_" in line or "." in line for line in rest)


def _several(line: str) -> list[str]:
    """A line that gives several names their values as lines of their own: “roll: p=208 i=50” is “roll p=208” and “roll i=50”.

    >>> _several("roll: p=208 i=50"), _several("p on roll = 42"), _several("p=1 d = 2")
    (['roll p=208', 'roll i=50'], ['p on roll = 42'], ['p=1', 'd=2'])
    """
    found = _SEVERAL.match(line)
    if found is None:
        return [line]
    family = f"{found[1].strip()} " if found[1] else ""
    return [f"{family}{name}={value}" for name, value in _ONE_OF_SEVERAL.findall(found[2])]


def _parted(line: str) -> tuple[str, str] | None:
    """Name and value of a line; None where it cannot be told where the one ends and the other begins."""
    for mark in ("=", "\t", ":"):
        name, found, value = line.partition(mark)
        if found:
            return " ".join(name.split()), value.strip()
    wide = re.split(r"\s{2,}", line, maxsplit=1)
    if len(wide) == 2:
        return wide[0], wide[1].strip()
    words = line.split()
    if len(words) == 2:
        return words[0], words[1]
    for k in range(1, len(words)):
        if _NUMBERS.match(" ".join(words[k:])):
            return " ".join(words[:k]), " ".join(words[k:])
    return None


def _doubt_about(pair: tuple[str, str] | None, line: str) -> str:
    if pair is None or not pair[0]:
        return f"expected “name = value”, found “{line[:60]}”"
    name, value = pair
    if value.startswith("=") or value in ("-", "–", "—"):
        return f"“{name}” has no value: found “{value[:20]}”"
    if _NUMBERS.match(value) and not all(math.isfinite(float(one)) for one in re.split(r"[,;\s]+", value) if one):
        return f"“{name}” has a number out of range: “{value[:20]}”"
    if max(map(len, pair)) > _MOST_TEXT:
        return f"names and values may have {_MOST_TEXT} characters at most"
    return ""
