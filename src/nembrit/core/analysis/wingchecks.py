"""Safety checks of a plane that a flight's log can answer."""

from collections.abc import Callable
from dataclasses import dataclass, field

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError
from nembrit.core.wing.checks.airspeed import airspeed_of
from nembrit.core.wing.checks.criteria import CheckResult
from nembrit.core.wing.checks.failsafe import failsafe_of
from nembrit.core.wing.checks.level import level_of
from nembrit.core.wing.checks.slow import slow_of
from nembrit.core.wing.track import track_of

_CHECK_HZ = 10.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Checks:
    """What was checked, by check; the reason where one was not."""

    found: tuple[CheckResult, ...] = ()
    reasons: dict[str, str] = field(default_factory=dict)


def checks_of(flight: Flight) -> Checks:
    """Ask a plane's flight every check that a log can answer; what it cannot answer comes with what to log or to fly."""
    recording = flight.recording
    fine, usual = track_of(recording, at_hz=_CHECK_HZ), track_of(recording)
    asks: tuple[tuple[str, Callable[[], CheckResult]], ...] = (
        ("failsafe", lambda: failsafe_of(recording, fine)), ("slow", lambda: slow_of(recording, fine)),
        ("level", lambda: level_of(recording)), ("airspeed", lambda: airspeed_of(usual)),
    )  # fmt: skip
    found: list[CheckResult] = []
    reasons: dict[str, str] = {}
    for key, ask in asks:
        try:
            found.append(ask())
        except CoreError as error:
            reasons[key] = str(error)
    return Checks(found=tuple(found), reasons=reasons)


CHECKS = Analysis(key="checks", version=1, result=Checks, run=checks_of, in_words="safety checks")
