"""Step up by feel: one raise a flight, back at the first bad sign, until nothing is left to raise."""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

# what one flight may raise, in turn: P and D in turn, the gyro cutoff every third flight (common practice, no source)
CYCLE = ("p.roll", "d.roll", "cutoff", "p.pitch", "d.pitch", "cutoff")
RAISED = tuple(dict.fromkeys(CYCLE))
INTEGRAL, TASTE = ("i.roll", "i.pitch"), ("f.roll", "f.pitch")
WORDS = {
    "p.roll": "P of roll", "d.roll": "D of roll", "p.pitch": "P of pitch", "d.pitch": "D of pitch", "cutoff": "the gyro cutoff",
    "i.roll": "I of roll", "i.pitch": "I of pitch", "f.roll": "feed-forward of roll", "f.pitch": "feed-forward of pitch",
}  # fmt: skip
CLEAN, FLYABLE, ROUGH, UNFLYABLE = "clean", "flyable", "rough", "unflyable"
SIGNS = {
    CLEAN: "no bad sign", "buzz": "buzz or rough tone", "shake": "shaking or wobble", "hot": "hot motors",
    "log": "oscillation in the log",
}  # fmt: skip
HOVERS = {
    FLYABLE: "it hovers and lands well",
    ROUGH: "it flies, but buzzes, shakes or heats its motors",
    UNFLYABLE: "it shakes, buzzes, climbs by itself or will not come down",
}
WOBBLES = {
    "descent": "wobble in descent or after a hard stop", "hover": "slow wobble in hover", "neither": "neither",
}  # fmt: skip
TASTES = {"sharper": "I want it sharper", "softer": "I want it softer", "fine": "it is right"}
_POINTS, _FINE_POINTS, _DOWN_POINTS, _FULL = 5.0, 2.0, 10.0, 100.0  # of a hundred-point scale (common practice, no source)
_SHARE = 0.1  # of a starting value that is on no such scale: 5 points of about 50
_MOST_RAISE = 0.25  # of the present value in one flight: the gate's own limit
_MOST_DOWNS, _MOST_CHANGES = 6, 6
_MOST_RATIO = 3.0  # of the starting value: beyond it the log has to decide (our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One line of the ledger. `sign` None: not flown yet."""

    kind: str  # hover, down, raise, back, check, ask, change
    dial: str = ""
    before: float = 0.0
    after: float = 0.0
    sign: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """What comes next, why, and what follows it."""

    kind: str  # hover, down, raise, back, check, ask, change, answer, verify, stop
    headline: str
    why: str
    then: str
    dial: str = ""
    values: Mapping[str, float] | None = None  # new values by dial
    card: str = "first_hover"

    @property
    def answers(self) -> dict[str, str]:
        """What can be said after the flight of this step."""
        if self.kind == "hover":
            return HOVERS
        if self.dial in INTEGRAL:
            return WOBBLES
        return TASTES if self.dial in TASTE else SIGNS


def step_size(start: float, *, fine: bool = False) -> float:
    """One step of a value, in its own unit.

    Five points, or two when fine, where the starting value can be one of a hundred-point scale (a whole number from 8 to
    100); else a tenth of it, or a twenty-fifth when fine, to two digits. Common practice, no source.

    >>> step_size(45), step_size(45, fine=True), step_size(208), step_size(0.042), step_size(1.0, fine=True)
    (5.0, 2.0, 21.0, 0.0042, 0.04)
    """
    if 8 <= start <= _FULL and float(start).is_integer():
        return _FINE_POINTS if fine else _POINTS
    return _two_digits(start * _SHARE * (_FINE_POINTS / _POINTS if fine else 1.0))


def next_step(
    entries: Sequence[Entry], values: Mapping[str, float], *, start: Mapping[str, float], fine: bool = False,
    blocked: Mapping[str, str] | None = None,
) -> Step:  # fmt: skip
    """The next step from the ledger alone.

    Parameters
    ----------
    entries : sequence of Entry
        The ledger, oldest first.
    values : mapping of dial to float
        Present settings in the tuner's own numbers; a dial that the craft has not, or whose filter is off, is absent.
    start : mapping of dial to float
        Settings at the start of the route, which set the size of a step.
    fine : bool
        Two points a flight instead of five.
    blocked : mapping of dial to str, optional
        Dials that may not be raised now, with the reason: a log predicts too little margin.

    Notes
    -----
    First a hover, close and low; an unflyable one lowers all of P, D and cutoff by ten points, a rough one P and D, six times
    at most. Then one raise a flight in the order of `CYCLE`. A bad sign takes that value back by twice the step and ends its
    raising; where no value of it was ever flown without a sign, the lower one is flown by itself until it is clean, down to
    half its start. When nothing is left to raise: I by what wobbles, then feed-forward to taste, then verification. Common
    practice, no source, but for the check of the lower value: our own simulated tuners need it (docs/routes.md).
    """
    blocked = blocked or {}
    if entries and entries[-1].sign is None:
        return _answer(entries[-1])
    hover = _hover(entries, values, start)
    if hover is not None:
        return hover
    if (last := entries[-1]).kind == "raise" and last.sign != CLEAN:
        return _back(last)
    if (checking := _checking(last, entries, values, start, fine=fine)) is not None:
        return checking
    left = [dial for dial in RAISED if dial in values and dial not in blocked and not is_done(dial, entries, values, start)]
    if left:
        return _raise(_next_of(left, entries), entries, values, start, fine=fine)
    for dial in (*INTEGRAL, *TASTE):
        if dial in values and (step := _by_answer(dial, entries, values, start, fine=fine)) is not None:
            return step
    return Step(
        kind="verify", headline="Everything is tried: verify it", why=_why_done(entries, blocked),
        then="Four flights of one card, compared with the baseline.", card="response",
    )  # fmt: skip


def highest_clean(dial: str, entries: Sequence[Entry]) -> float | None:
    """The highest value of a dial that was flown without a bad sign."""
    clean = [one.after for one in entries if one.kind == "raise" and one.dial == dial and one.sign == CLEAN]
    return max(clean, default=None)


def is_done(dial: str, entries: Sequence[Entry], values: Mapping[str, float], start: Mapping[str, float]) -> bool:
    """Whether raising a dial has ended: by a bad sign, or at three times its starting value."""
    return _is_done(dial, entries) or values.get(dial, 0.0) >= _MOST_RATIO * start.get(dial, float("inf"))


# --- the parts of a route


def _answer(entry: Entry) -> Step:
    kind = "hover" if entry.kind == "hover" else "answer"
    changed = f"{WORDS[entry.dial]} at {entry.after:g}" if entry.dial else "the lower values"
    return Step(
        kind=kind, headline=f"Fly half a minute with {changed}, then answer", dial=entry.dial,
        why="The first seconds close and low: a bad change shows at once. Land at the first bad sign and touch the motors.",
        then="A bad sign takes the value back by twice the step. Without one the next value rises."
        if entry.kind == "raise" else "Your answer decides the next step.", card=_card(entry.dial),
    )  # fmt: skip


def _hover(entries: Sequence[Entry], values: Mapping[str, float], start: Mapping[str, float]) -> Step | None:
    """The first hover, or lower values where it was unflyable; None once it is flyable."""
    hovers = [one for one in entries if one.kind == "hover"]
    n_down = sum(one.kind == "down" for one in entries)
    if hovers and hovers[-1].sign == FLYABLE:
        return None
    if not hovers or n_down == len(hovers):
        return Step(
            kind="hover", headline="First hover, close and low", why="Tuning needs a craft that can be flown.",
            then="If it hovers and lands well, the first value rises by one step.",
        )  # fmt: skip
    if n_down >= _MOST_DOWNS:
        return Step(
            kind="stop", headline="Still not flyable at low values: look for a mechanical cause",
            why="Gains this low do not shake a sound craft. Check mounting, propellers, motor order and directions.",
            then="Record the repair, then start this route anew.",
        )  # fmt: skip
    is_rough = hovers[-1].sign == ROUGH
    dials = [dial for dial in RAISED if dial in values and not (is_rough and dial == "cutoff")]
    lower = {dial: _lowered(values[dial], start.get(dial, values[dial])) for dial in dials}
    return Step(
        kind="down", headline="Lower P and D together" if is_rough else "Lower P, D and the gyro cutoff together", values=lower,
        why="There is a bad sign before anything was raised: they go down by ten points of a hundred, or by a fifth."
        if is_rough else "It cannot be flown as it is: all go down by ten points of a hundred, or by a fifth.",
        then="Hover again, close and low.",
    )  # fmt: skip


def _lowered(value: float, start: float) -> float:
    down = _DOWN_POINTS if step_size(start) == _POINTS else _two_digits(2 * _SHARE * start)
    return max(value - down, _two_digits(value / 2))


def _back(last: Entry) -> Step:
    """Twice the step below the value that showed the sign, but never below half of what it was before."""
    to = max(last.after - 2 * (last.after - last.before), last.before / 2)
    return _lowering(last.dial, last.after, to, last.sign or "", f"{_capital(WORDS[last.dial])} is not raised again.")


def _checking(
    last: Entry, entries: Sequence[Entry], values: Mapping[str, float], start: Mapping[str, float], *, fine: bool
) -> Step | None:
    """A value that went back without ever being clean is flown by itself, and goes further down while the sign is there."""
    dial = last.dial
    if last.kind not in ("back", "check") or dial not in values or _was_clean(dial, entries):
        return None
    value, first = values[dial], start.get(dial, values[dial])
    if last.kind == "back":
        return Step(
            kind="check", dial=dial, headline=f"Fly half a minute with {WORDS[dial]} at {value:g}: is the sign gone?",
            why="No value of it was flown without a bad sign yet, so the lower one is flown by itself.",
            then="If the sign is gone, the next value rises. If not, this one goes further down.", card=_card(dial),
        )  # fmt: skip
    to = max(value - 2 * step_size(first, fine=fine), _two_digits(first / 2))
    if to >= value:
        return None
    return _lowering(dial, value, to, last.sign or "", "Fly it by itself again.")


def _lowering(dial: str, value: float, to: float, sign: str, then: str) -> Step:
    return Step(
        kind="back", dial=dial, values={dial: to}, headline=f"Back: {WORDS[dial]} {value:g} → {to:g}", then=then,
        why=f"At {value:g} there was a bad sign: {SIGNS.get(sign, sign)}. Twice the step below it is safer.",
    )  # fmt: skip


def _was_clean(dial: str, entries: Sequence[Entry]) -> bool:
    return any(one.dial == dial and one.kind in ("raise", "check") and one.sign == CLEAN for one in entries)


def _raise(dial: str, entries: Sequence[Entry], values: Mapping[str, float], start: Mapping[str, float], *, fine: bool) -> Step:
    value = values[dial]
    size = min(step_size(start.get(dial, value), fine=fine), _floor(value * _MOST_RAISE, value))
    after = value + size
    following = [one for one in RAISED if one in values and one != dial and not _is_done(one, entries)]
    ahead = _next_of(following, [*entries, Entry(kind="raise", dial=dial, sign=CLEAN)]) if following else dial
    return Step(
        kind="raise", dial=dial, values={dial: after}, headline=f"Raise {WORDS[dial]} from {value:g} to {after:g}",
        why="One value a flight, so that you know what a sign comes from. Stay just below the first oscillation.",
        then=f"Without a bad sign, {WORDS[ahead]} is next.", card=_card(dial),
    )  # fmt: skip


def _floor(most: float, value: float) -> float:
    """The largest step that the gate lets through; of whole numbers at least one."""
    return max(1.0, math.floor(most)) if float(value).is_integer() and value >= 8 else most


def _next_of(left: Sequence[str], entries: Sequence[Entry]) -> str:
    """The dial that is due: the place in the cycle after the newest raise, past those that are done."""
    n_raised = sum(one.kind == "raise" for one in entries)
    turn = CYCLE[n_raised % len(CYCLE) :] + CYCLE[: n_raised % len(CYCLE)]
    return next(dial for dial in turn if dial in left)


def _is_done(dial: str, entries: Sequence[Entry]) -> bool:
    return any(one.kind == "raise" and one.dial == dial and one.sign not in (None, CLEAN) for one in entries)


def _by_answer(
    dial: str, entries: Sequence[Entry], values: Mapping[str, float], start: Mapping[str, float], *, fine: bool
) -> Step | None:
    """I by what wobbles, feed-forward by taste: up or down a step as answered, until it is right or the answer turns round."""
    own = [one for one in entries if one.dial == dial and one.kind in ("ask", "change")]
    asked = "Does it wobble?" if dial in INTEGRAL else "Sharper or softer?"
    if not own:
        return Step(
            kind="ask", dial=dial, headline=f"{_capital(WORDS[dial])}: {asked.lower()}", why=_asked_why(dial),
            then="One step up or down by your answer, or it is done.", card=_card(dial),
        )  # fmt: skip
    ways = [_WAY.get(one.sign or "", 0) for one in own]
    if ways[-1] == 0 or len(own) > _MOST_CHANGES or (len(ways) > 1 and ways[-1] == -ways[-2]):
        return None
    value, size = values[dial], step_size(start.get(dial, values[dial]), fine=fine)
    after = max(0.0, value + ways[-1] * min(size, _floor(value * _MOST_RAISE, value)))
    if after == value:
        return None
    return Step(
        kind="change", dial=dial, values={dial: after}, headline=f"{_capital(WORDS[dial])}: {value:g} → {after:g}",
        why=f"You said: {(WOBBLES | TASTES)[own[-1].sign or '']}.",
        then="Fly again and answer the same question.", card=_card(dial),
    )  # fmt: skip


_WAY = {"descent": -1, "hover": 1, "neither": 0, "sharper": 1, "softer": -1, "fine": 0}


def _asked_why(dial: str) -> str:
    if dial in INTEGRAL:
        return "Wobble in a vertical descent or after a hard stop means too much I; slow wobble in hover means too little."
    return "Feed-forward is taste: it makes the craft follow the stick earlier, and is felt most in quick moves."


def _why_done(entries: Sequence[Entry], blocked: Mapping[str, str]) -> str:
    ended = [f"{WORDS[dial]} by {SIGNS[sign]}" for dial, sign in _signs(entries)]
    ended += [f"{WORDS[dial]} by the log ({reason})" for dial, reason in blocked.items() if not _is_done(dial, entries)]
    return f"Raising ended for {', '.join(ended)}." if ended else "Nothing on this craft can be raised."


def _signs(entries: Sequence[Entry]) -> Iterator[tuple[str, str]]:
    for one in entries:
        if one.kind == "raise" and one.sign not in (None, CLEAN):
            yield one.dial, str(one.sign)


def _card(dial: str) -> str:
    return "full" if dial in INTEGRAL else "response"


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _two_digits(value: float) -> float:
    if value <= 0:
        return 0.0
    return float(f"{value:.2g}")
