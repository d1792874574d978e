"""What to write into the build book for a finding: the repair, and the number that must get better."""

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True, kw_only=True)
class Repair:
    """A repair slip, filled in from a finding."""

    code: str
    part: str
    title: str
    button: str
    expect: str
    primary_metric: str


def repair_for(findings: list[dict[str, Any]]) -> Repair | None:
    """The repair for the first mechanical or electrical finding that is worth acting on; None where there is none."""
    found = next(
        (one for one in findings if one["kind"] in ("mechanical", "electrical") and one["severity"] in ("act", "watch")), None
    )
    if found is None:
        return None
    axis, motor = found["axis"] or "roll", found["motor"]
    rows = {
        "loose_mount": (
            "flight controller tray",
            "Pressed and tightened the mount",
            "I tightened the mount",
            "motion_noise.roll",
        ),
        "frame_resonance": ("frame", "Stiffened what rang", "I stiffened the frame", f"jitter_noise.{axis}"),
        "propeller": (
            f"propeller of motor {motor}",
            "New propeller",
            f"I changed the propeller of motor {motor}",
            "jitter_noise.roll",
        ),
        "bearing": (f"motor {motor}", "New bearing or motor", f"I mended motor {motor}", "jitter_noise.roll"),
        "electrical_spikes": (
            "capacitor or board",
            "Added a capacitor or swapped the board",
            "I cured the wiring",
            f"jitter_noise.{axis}",
        ),
        "noisy_axis": ("flight controller board", "Swapped the board", "I swapped the board", f"jitter_noise.{axis}"),
    }
    part, title, button, metric = rows.get(found["code"], ("craft", "Cured vibration", "I cured it", "motion_noise.roll"))
    return Repair(
        code=found["code"],
        part=part,
        title=title,
        button=button,
        expect=f"less noise: {found['highlight']}"[:300],
        primary_metric=metric,
    )
