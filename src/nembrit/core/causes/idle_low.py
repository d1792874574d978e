"""Idle too low: at zero throttle the motors turn too slowly to grip."""

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Shown, Values, Words, log2, over, within_limits
from nembrit.core.causes.i_low import AT_LIMITS, MOSTLY_LOST
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.response.loop import idle_ratio
from nembrit.core.response.spool import spool_ratio
from nembrit.core.types import AXES


def _measure(sight: Sight) -> Measured:
    values: dict[str, float] = {}
    idles = [idle for axis in AXES[:2] if (idle := idle_ratio(sight.recording, axis, list(sight.spans))) is not None]
    if idles and min(n for _, n in idles) >= 2:
        values["idle_ratio"] = max(ratio for ratio, _ in idles)
    untested = ""
    if (lag := spool_ratio(sight.recording, sight.spans)) is not None:
        values["idle_lag_ratio"] = lag
    else:
        untested = "needs motor speeds and a float at zero throttle: fly the full card"
    if (sight.lost_share or 0.0) > MOSTLY_LOST:
        untested = AT_LIMITS
    return Measured(values=values, untested=untested)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "idle_lag_ratio" not in v:
        return None
    return (over(log2(v["idle_lag_ratio"]), 0.5, 0.25) * within_limits(v),)


def _words(v: Values, seen: None) -> Words:
    more = " or more" if v["idle_lag_ratio"] >= 10 else ""
    return Words(
        highlight=f"At zero throttle the motors answer {v['idle_lag_ratio']:.1f} times{more} slower than in flight",
        conclusion=": they turn too slowly to control it; the idle is too low.",
        evidence={"idle_lag_ratio": v["idle_lag_ratio"]},
    )


CAUSE = Cause(
    code="idle_low",
    kind=TUNE,
    name="idle too low",
    needs=Need(rate_hz=60, seconds=LEAST_S, all_of=("throttle",)),
    measure=_measure,
    evidence=_evidence,
    n_evidence=1,
    words=_words,
    look_alikes=(
        ("a tired pack", "fly the floats again with a fresh pack"),
        ("a slow speed controller", "spin each motor up alone, propellers off, and listen for one that starts late"),
    ),
    shows=(Shown(name="idle_lag_ratio", label="motor lag at zero throttle, compared with flight", unit="times"),),
    proof="Three floats in calm air; then with a higher idle three more: power must return smoothly.",
)
