"""What to write into the build book for a finding: the repair, and the number that must get better."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.causes.cause import ELECTRICAL, MECHANICAL, Repair
from nembrit.core.causes.finding import Finding
from nembrit.core.causes.table import BY_CODE

_ANY = Repair(part="craft", title="Fixed a vibration", button="Record repair", metric="motion_noise.roll")


@dataclass(frozen=True, slots=True, kw_only=True)
class RepairSlip:
    """A repair slip, filled in from a finding."""

    code: str
    part: str
    title: str
    button: str
    metric: str  # must become lower
    why: str  # what the finding rests on


def repair_for(findings: Sequence[Finding]) -> RepairSlip | None:
    """The repair for the first mechanical or electrical finding that is worth acting on; None where there is none."""
    found = next((one for one in findings if one.kind in (MECHANICAL, ELECTRICAL) and one.severity in ("act", "watch")), None)
    if found is None:
        return None
    cause = BY_CODE.get(found.code)
    repair = (cause.repair if cause else None) or _ANY
    place = {"axis": found.axis or "roll", "motor": found.motor}
    return RepairSlip(
        code=found.code,
        part=repair.part.format(**place),
        title=repair.title,
        button=repair.button.format(**place),
        metric=repair.metric.format(**place),
        why=found.highlight,
    )
