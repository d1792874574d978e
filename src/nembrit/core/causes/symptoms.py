"""Symptoms: what every cause measured in one flight, side by side for the ranking."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from nembrit.core.causes.cause import Cause, Measured
from nembrit.core.causes.sight import Sight
from nembrit.core.causes.table import CAUSES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Symptoms:
    """The numbers that causes are judged by, what each saw, and which could not be tested.

    A number that cannot be measured (no channel, no such manoeuvre) is absent.
    """

    values: Mapping[str, float] = field(default_factory=dict)
    seen: Mapping[str, Any] = field(default_factory=dict)  # cause → what its words need
    untested: Mapping[str, str] = field(default_factory=dict)  # cause → what is missing and how to get it


def _measured(cause: Cause, sight: Sight) -> Measured:
    """What a cause measured; nothing where the log has not what it needs."""
    lacking = cause.needs.lacking(sight.recording)
    return Measured(untested=lacking) if lacking else cause.measure(sight)


def symptoms_of(sight: Sight) -> Symptoms:
    """Measure all symptoms of a flight; never raises for data that cannot answer."""
    measured = {cause.code: _measured(cause, sight) for cause in CAUSES}
    return Symptoms(
        values={name: value for found in measured.values() for name, value in found.values.items()},
        seen={code: found.seen for code, found in measured.items()},
        untested={code: found.untested for code, found in measured.items() if found.untested},
    )
