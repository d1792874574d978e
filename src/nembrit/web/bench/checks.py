"""Safety checks of a plane: limits that stood before, results from flights and by hand, and what is due."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from django.utils import timezone

from nembrit.core.errors import CoreError, InputError
from nembrit.core.wing.checks.byhand import READINGS, by_hand
from nembrit.core.wing.checks.criteria import CHECKS, Check, CheckResult, asked_of, check_of, defaults_of, judge, limits_from
from nembrit.core.wing.returnrule import Point, return_passed
from nembrit.web.bench.results import by_flight
from nembrit.web.bench.returns import campaign_of
from nembrit.web.flights.models import Flight
from nembrit.web.ground.models import CheckLimits, CheckNote
from nembrit.web.hangar.models import Craft

__all__ = ["READINGS", "Board", "Check", "Done", "Line", "add_note", "board_of", "check_of", "line_of", "set_limits"]

_RECENT = 40  # newest flights that are looked through
_SIDE_BY_SIDE = 6
_VERDICTS = {True: "passed", False: "failed", None: "not judged"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Done:
    """One time that a check was done."""

    at: datetime
    flight: Flight | None
    note: CheckNote | None
    result: CheckResult
    points: tuple[Point, ...]
    passed: bool | None
    stood_before: bool  # whether limits were set before it

    @property
    def verdict(self) -> str:
        return _VERDICTS[self.passed]


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One check of a craft: what it asks now, and every time that it was done, the newest first."""

    check: Check
    asked: tuple[str, ...]
    limits: Mapping[str, float]
    set_at: datetime | None
    done: list[Done]
    table: list[tuple[str, list[Point | None]]]  # by limit, side by side, oldest first
    reason: str  # why the newest flight has no result

    @property
    def latest(self) -> Done | None:
        """The newest result that was judged, else the newest one: what measured nothing takes nothing back."""
        return next((one for one in self.done if one.passed is not None), self.done[0] if self.done else None)

    @property
    def verdict(self) -> str:
        return self.latest.verdict if self.latest else "not done yet"


@dataclass(frozen=True, slots=True, kw_only=True)
class Board:
    """All checks of a plane."""

    title: str
    lines: list[Line]
    due: Line | None
    returns: str  # what the returns came to


def board_of(craft: Craft) -> Board:
    """Every check, the one that is due first: never done, then failed, then not judged."""
    lines = _lines(craft, CHECKS)
    campaign = campaign_of(craft)
    n_passed = sum(line.verdict == "passed" for line in lines)
    order = ["not done yet", "failed", "not judged"]
    failed = next((line for line in lines if line.verdict == "failed"), None)
    due = failed or next((line for word in order for line in lines if line.verdict == word), None)
    title = f"{n_passed} of {len(lines)} checks passed"
    if due is not None:
        title += f"; next: {due.check.name.lower()}"
    return Board(title=title, lines=lines, due=due, returns="" if campaign is None else campaign.title)


def line_of(craft: Craft, check: Check) -> Line:
    """One check of a craft."""
    return _lines(craft, (check,))[0]


def set_limits(craft: Craft, check: Check, given: Mapping[str, object]) -> CheckLimits:
    """Write the limits of the checks to come. Raises InputError for what no plane can be held to."""
    return CheckLimits.objects.create(
        craft=craft, check_key=check.key, limits=limits_from(check, given), written_at=timezone.now()
    )


def add_note(craft: Craft, check: Check, given: Mapping[str, float], *, note: str = "") -> CheckNote:
    """Keep readings of a check without a log. Raises InputError for readings that are missing or impossible."""
    by_hand(check, given)
    if len(note) > 300:
        raise InputError("the note is too long: 300 characters at most")
    return CheckNote.objects.create(
        craft=craft, check_key=check.key, readings=dict(given), note=note.strip(), done_at=timezone.now()
    )


def _lines(craft: Craft, checks: tuple[Check, ...]) -> list[Line]:
    rows = list(craft.check_limits.all())
    notes = list(craft.check_notes.all())
    flown: list[tuple[Flight, CheckResult]] = []
    reasons: dict[str, str] = {}
    for flight, results in by_flight(list(craft.flights.active()[:_RECENT]), "checks"):
        if results is None or results.checks is None:
            continue
        flown += [(flight, one) for one in results.checks.found]
        for key, reason in results.checks.reasons.items():
            reasons.setdefault(key, reason)
    return [_line(check, [row for row in rows if row.check_key == check.key], notes, flown, reasons) for check in checks]


def _line(
    check: Check,
    rows: list[CheckLimits],
    notes: list[CheckNote],
    flown: list[tuple[Flight, CheckResult]],
    reasons: dict[str, str],
) -> Line:
    done = [_done(check, rows, flight.flown_at, result, flight=flight) for flight, result in flown if result.key == check.key]
    for note in notes:
        if note.check_key == check.key:
            try:
                done.append(_done(check, rows, note.done_at, by_hand(check, note.readings), note=note))
            except CoreError:  # readings of an archive that no longer pass
                continue
    done.sort(key=lambda one: one.at, reverse=True)
    limits = _limits(check, rows[0]) if rows else defaults_of(check)
    shown = done[:_SIDE_BY_SIDE][::-1]
    asked = list(dict.fromkeys(point.asked for one in shown for point in one.points))
    table = [(words, [next((point for point in one.points if point.asked == words), None) for one in shown]) for words in asked]
    return Line(
        check=check, asked=asked_of(check, limits), limits=limits, set_at=rows[0].written_at if rows else None, done=done,
        table=table, reason="" if done else reasons.get(check.key, ""),
    )  # fmt: skip


def _done(
    check: Check, rows: list[CheckLimits], at: datetime, result: CheckResult, *, flight: Flight | None = None,
    note: CheckNote | None = None,
) -> Done:  # fmt: skip
    """Judged by the limits that stood before it; by the first ones, which it says, where none did."""
    before = next((row for row in rows if row.written_at <= at), None)
    row = before or (rows[-1] if rows else None)
    points = judge(check, _limits(check, row) if row else defaults_of(check), result)
    return Done(
        at=at,
        flight=flight,
        note=note,
        result=result,
        points=points,
        passed=return_passed(points),
        stood_before=before is not None,
    )


def _limits(check: Check, row: CheckLimits) -> dict[str, float]:
    try:
        return limits_from(check, row.limits)
    except CoreError:
        return defaults_of(check)
