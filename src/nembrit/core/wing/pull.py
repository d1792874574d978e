"""To which side a plane is pulled, from straight legs or from level flight with the sticks let go, and what pulls."""

from dataclasses import dataclass

from nembrit.core.wing.creep import Creep
from nembrit.core.wing.speeds import BySpeed
from nembrit.core.wing.weaving import Weaving

_CREEP_DEG_S, _SIGMAS = 0.35, 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Pull:
    """Turning that the bank does not explain, clockwise positive [deg/s]."""

    creep_deg_s: float
    error_deg_s: float
    source: str  # legs, level flight, two speeds
    side: str | None  # None: nothing pulls beyond chance and 0.35 deg/s
    cause: str  # trim, horizon, both, cannot tell

    @property
    def in_words(self) -> str:
        """“1.1 ± 0.2 deg/s to the right on straight legs”."""
        where = {"legs": "on straight legs", "level flight": "in level flight"}.get(self.source, "at two speeds")
        size = f"{abs(self.creep_deg_s):.1f} ± {1.96 * self.error_deg_s:.1f} deg/s"
        return f"{size} to the {self.side} {where}" if self.side else f"no pull beyond {size} {where}"


def pull_of(weaving: Weaving | None, creep: Creep | None, speeds: BySpeed | None) -> Pull | None:
    """The pull of one flight: at two speeds where those name its cause, else on legs, else in level flight; None without any.

    A pull stands where it is beyond two of its errors and 0.35 deg/s (half a degree of horizon makes as much).
    """
    cause = speeds.verdict if speeds is not None else "cannot tell"
    if speeds is not None and cause in ("trim", "horizon"):
        size, error = (
            (speeds.trim_deg_s, speeds.trim_error_deg_s)
            if cause == "trim"
            else (speeds.horizon_deg_s, speeds.horizon_error_deg_s)
        )
        return Pull(creep_deg_s=size, error_deg_s=error, source="two speeds", side=_side(size, error), cause=cause)
    if weaving is not None:
        return Pull(
            creep_deg_s=weaving.creep_deg_s, error_deg_s=weaving.creep_error_deg_s, source="legs", side=weaving.side, cause=cause
        )
    if creep is not None:
        error = creep.half_width_deg_s / 1.96
        side = _side(creep.rate_deg_s, error)
        return Pull(creep_deg_s=creep.rate_deg_s, error_deg_s=error, source="level flight", side=side, cause=cause)
    return None


def _side(creep_deg_s: float, error_deg_s: float) -> str | None:
    if abs(creep_deg_s) <= max(_CREEP_DEG_S, _SIGMAS * error_deg_s):
        return None
    return "right" if creep_deg_s > 0 else "left"
