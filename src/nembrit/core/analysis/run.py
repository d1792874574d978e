"""Everything that one flight can answer, computed once: what pages and reports show."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, TypeVar

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.conditions import CONDITIONS, Conditions
from nembrit.core.analysis.flight import Flight
from nembrit.core.analysis.judgement import JUDGEMENT, Judgement
from nembrit.core.analysis.likeness import LIKENESS, Likeness
from nembrit.core.analysis.loop import LOOP, Loop
from nembrit.core.analysis.maps import MAPS, Maps
from nembrit.core.analysis.metrics import METRICS, Metrics
from nembrit.core.analysis.motors import MOTORS, Motors
from nembrit.core.analysis.noise import NOISE, Noise
from nembrit.core.analysis.response import RESPONSE, Response
from nembrit.core.analysis.sensors import SENSORS, Sensors
from nembrit.core.analysis.shaping import SHAPING, Shaping
from nembrit.core.analysis.wing import PATH, WING, FlightPath, Wing
from nembrit.core.analysis.wingchecks import CHECKS, Checks
from nembrit.core.progress import Progress, no_progress

Result = TypeVar("Result")
MULTIROTOR: tuple[Analysis, ...] = (
    NOISE,
    RESPONSE,
    MOTORS,
    METRICS,
    JUDGEMENT,
    MAPS,
    SENSORS,
    SHAPING,
    LOOP,
    CONDITIONS,
    LIKENESS,
)
FIXED_WING: tuple[Analysis, ...] = (*MULTIROTOR, WING, PATH, CHECKS)
ANALYSES = {analysis.key: analysis for analysis in dict.fromkeys((*MULTIROTOR, *FIXED_WING))}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FlightResults:
    """Typed results of one flight, a field for each analysis by its key; one that was not asked for is None."""

    noise: Noise | None = None
    response: Response | None = None
    motors: Motors | None = None
    metrics: Metrics | None = None
    judgement: Judgement | None = None
    maps: Maps | None = None
    sensors: Sensors | None = None
    shaping: Shaping | None = None
    loop: Loop | None = None
    conditions: Conditions | None = None
    likeness: Likeness | None = None
    wing: Wing | None = None
    path: FlightPath | None = None
    checks: Checks | None = None


def there(result: Result | None) -> Result:
    """A result that was asked for, so that it is there."""
    if result is None:
        raise LookupError("this analysis was not asked for")
    return result


def analyse(flight: Flight, *, only: Iterable[str] | None = None, progress: Progress = no_progress) -> FlightResults:
    """Ask a flight what its kind of craft can answer, all or the named analyses.

    Never raises for data that cannot answer a question: the reason is returned instead, with what to fly.
    """
    wanted = wanted_analyses(flight.craft.kind, only)
    found: dict[str, Any] = {}
    for number, analysis in enumerate(wanted):
        progress(analysis.in_words, number / len(wanted))
        found[analysis.key] = analysis.run(flight)
    return FlightResults(**found)


def wanted_analyses(kind: str, only: Iterable[str] | None = None) -> list[Analysis]:
    """The analyses of a kind of craft, in order, all or the named ones."""
    names = None if only is None else set(only)
    listed = FIXED_WING if kind == "fixed_wing" else MULTIROTOR
    return [analysis for analysis in listed if names is None or analysis.key in names]
