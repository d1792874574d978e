"""Findings: judgements from evidence, with how sure, on which numbers, and what would settle it."""

from dataclasses import dataclass

from nembrit.core.noise.hump import LOOSE_MOUNT_EXCESS_DB, Hump
from nembrit.core.types import AXES

# share of like cases in which the finding proved right, on simulated logs of random craft (docs/accuracy.md)
_LOUD_CONFIDENCE = 0.95
_QUIET_CONFIDENCE = 0.7


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One judgement; `severity` is info, watch, act or stop."""

    code: str
    severity: str
    confidence: float
    highlight: str  # the numbers that it rests on, to be marked
    conclusion: str
    evidence: dict[str, float]
    proof: str
    axis: str | None = None
    causes: tuple[str, ...] = ()
    caution: str = ""

    @property
    def summary(self) -> str:
        return f"{self.highlight} {self.conclusion}"


def mount_finding(humps: dict[str, Hump]) -> Finding | None:
    """Judge whether the flight controller or its tray sits loose, from the humps of roll and pitch.

    `act` when the weaker of both axes exceeds 5 dB and one 6 dB; `watch` from 3 dB. One recording cannot
    tell a loose mount from a cracked arm: the proof names the test that can.
    """
    pair = {axis: humps[axis] for axis in AXES[:2] if axis in humps}
    if len(pair) < 2:
        return None
    weaker = min(pair.values(), key=lambda hump: hump.excess_db)
    stronger = max(pair.values(), key=lambda hump: hump.excess_db)
    is_sure = stronger.is_loud and weaker.excess_db >= LOOSE_MOUNT_EXCESS_DB - 1
    if not is_sure and weaker.excess_db < 3:
        return None
    return Finding(
        code="loose_mount",
        severity="act" if is_sure else "watch",
        confidence=_LOUD_CONFIDENCE if is_sure else _QUIET_CONFIDENCE,
        highlight=f"A hump of {stronger.excess_db:.1f} dB around {stronger.peak_hz:.0f} Hz",
        conclusion="in roll and pitch: the flight controller or its tray probably sits loose.",
        evidence={"excess_db": stronger.excess_db, "peak_hz": stronger.peak_hz, "width_hz": stronger.width_hz},
        causes=("loose_mount", "cracked_arm"),
        proof="Press and tighten every part between frame and controller, then fly the same card again.",
        caution="Gains and filters would only mask this: cure the mechanics first.",
    )
