"""What a plane's numbers speak for: the multirotor's causes are never asked about."""

from nembrit.core.analysis.wing import Wing
from nembrit.core.causes.finding import Finding
from nembrit.core.wing.lurch import LURCHES_DPS
from nembrit.core.wing.navigation import downwind
from nembrit.core.wing.pull import Pull
from nembrit.core.wing.rates import forward_word
from nembrit.core.wing.returnrule import ReturnRule, judge_return
from nembrit.core.wing.weaving import Weaving
from nembrit.core.wing.words import signed

_TRIM_US = 15.0  # from where moving a centre is worth it (common practice, no source)


def wing_findings(wing: Wing) -> tuple[Finding, ...]:
    """Findings of a plane, most important first."""
    found = _returns(wing)
    weaving, pull = wing.weaving, wing.pull
    if pull is not None and pull.side is not None:
        found.append(_pulled(pull, weaving))
    if weaving is not None and weaving.verdict in ("navigation_gain", "both"):
        found.append(_swings(weaving))
    found += _downwind(wing)
    found += _trims(wing)
    found += _lurches(wing)
    found += _gains(wing)
    found += _forwards(wing)
    return tuple(found)


def _returns(wing: Wing) -> list[Finding]:
    """Returns that break the careful limits. Obstacles and limits of one's own are judged on the page of the return."""
    found = []
    for n, flown in enumerate(wing.returns, start=1):
        failed = [point.failure for point in judge_return(flown, (), ReturnRule(ends="either")) if point.passed is False]
        if not failed:
            continue
        found.append(
            Finding(
                code="return_failed", severity="act", confidence=None, kind="safety",
                highlight=f"Return {n} failed" if len(wing.returns) > 1 else "The return failed",
                conclusion=f": {'; '.join(failed)}. Do not rely on it.", evidence={"start_s": flown.start_s},
                proof="Correct height, turn or radius in the settings. Repeat the return in sight, ready to take over.",
                causes=("return_failed",), caution="Until a return passes, stay where you can fly home manually.",
            )
        )  # fmt: skip
    return found


_PULLS = {
    "trim": (": it grows with airspeed, so it is a yaw trim error", "move the yaw trim on the tail, then fly the same legs"),
    "horizon": (
        ": it falls with airspeed, so the horizon is tilted or the motor pulls to one side",
        "level the controller on the bench, leave the servos alone, and fly two speeds again",
    ),
    "both": (": a yaw trim error and a tilted horizon", "level the controller on the bench first, then fly two speeds again"),
    "cannot tell": (
        ": a yaw trim error or a tilted horizon; one speed cannot separate them",
        "fly fifty seconds slow and fifty fast, hands off: a trim error drifts more when fast, a tilted horizon less",
    ),
}


def _pulled(pull: Pull, weaving: Weaving | None) -> Finding:
    conclusion, proof = _PULLS[pull.cause]
    return Finding(
        code="yaw_trim", severity="act", confidence=None, kind="aerodynamic", axis="yaw",
        highlight=f"Pulled {pull.in_words}",
        conclusion=f"{conclusion}. Do not change the navigation gain yet: it would only mask this",
        evidence={"creep_deg_s": pull.creep_deg_s, "error_deg_s": pull.error_deg_s}
        | ({"bank_deg": weaving.bank_deg, "bank_error_deg": weaving.bank_error_deg} if weaving else {}),
        proof=proof, causes=("yaw_trim", "tilted_horizon", "one_sided_thrust"),
    )  # fmt: skip


def _swings(weaving: Weaving) -> Finding:
    return Finding(
        code="navigation_gain", severity="watch", confidence=None, kind="tune", axis="roll",
        highlight=f"Oscillates from side to side at {weaving.line_hz or 0:.2f} Hz",
        conclusion=": the navigation gain is too high",
        evidence={"line_hz": weaving.line_hz or 0.0, "share": weaving.swing_share},
        proof="lower the navigation's gain by a third and fly the same legs", causes=("navigation_gain",),
    )  # fmt: skip


def _downwind(wing: Wing) -> list[Finding]:
    """Lines that are held beside themselves as the wind blows, with nothing that pulls: the navigation steers by heading."""
    if wing.navigation is None or wing.wind is None or wing.pull is None or wing.pull.side is not None:
        return []
    drift = downwind(wing.navigation, wing.wind)
    if drift is None:
        return []
    return [
        Finding(
            code="steers_by_heading", severity="watch", confidence=None, kind="tune",
            highlight=f"Flies up to {drift.most_m:.0f} m downwind of its lines",
            conclusion=", and nothing pulls it: the navigation steers by heading and does not correct for the wind. "
            "The trims are fine",
            evidence={"per_crosswind_s": drift.slope_s, "most_m": drift.most_m},
            proof="switch on wind correction or course-over-ground steering, then fly the same legs",
            causes=("steers_by_heading",),
        )
    ]  # fmt: skip


def _lurches(wing: Wing) -> list[Finding]:
    """A switch to manual that has to be caught, and whether the trims that are held explain it."""
    if not wing.lurches:
        return []
    axis, rate = max((one.largest for one in wing.lurches), key=lambda pair: abs(pair[1]))
    if abs(rate) <= LURCHES_DPS:
        return []
    held = wing.trim.axes.get(axis) if wing.trim is not None else None
    explained = held is not None and abs(held.trim_us) > held.half_width_us and held.trim_us * rate < 0
    return [
        Finding(
            code="lurch", severity="watch", confidence=None, axis=axis, kind="aerodynamic",
            highlight=f"Lurches at the switch to manual: {axis} {signed(rate)} deg/s",
            conclusion=": the controller releases the trim that it held"
            if explained
            else ", and no held trim explains it: check the horizon, the thrust line and the stick centre",
            evidence={"rate_dps": rate},
            proof="move the held trim into the centres, then switch to manual high up, hands ready"
            if explained
            else "fly level hands off for half a minute, then switch to manual again, high up, hands ready",
            causes=(f"{axis}_trim",),
        )
    ]  # fmt: skip


def _trims(wing: Wing) -> list[Finding]:
    found = []
    is_pulled = wing.pull is not None and wing.pull.side is not None
    for axis, own in (wing.trim.axes if wing.trim else {}).items():
        if axis == "yaw" or (axis == "roll" and is_pulled):  # nothing holds yaw; roll is held against the sideslip
            continue
        low, high = own.interval_us
        if abs(own.trim_us) >= _TRIM_US and low * high > 0:
            found.append(
                Finding(
                    code=f"{axis}_trim", severity="watch", confidence=None, axis=axis,
                    kind="aerodynamic", highlight=f"{axis.capitalize()} is held by {signed(own.trim_us)} µs hands off",
                    conclusion=": the controller hides it, and the plane lurches in manual",
                    evidence={"trim_us": own.trim_us, "error_us": own.error_us},
                    proof="move it into the servo centres, set the radio's trim back to zero, and switch to manual on the next "
                    "flight: nothing should lurch",
                    causes=(f"{axis}_trim",),
                )
            )  # fmt: skip
    return found


def _forwards(wing: Wing) -> list[Finding]:
    """A feed-forward that asks for more or less of the surface than the plane needs."""
    found = []
    for axis, own in wing.rate_response.items():
        word = "open" if own.forward_ratio is None else forward_word(own.forward_ratio)
        if own.forward_ratio is None or word not in ("low", "high"):
            continue
        ratio, (low, high) = own.forward_ratio
        found.append(
            Finding(
                code=f"forward_{word}", severity="watch", confidence=None, axis=axis, kind="tune",
                highlight=f"Feed-forward of {axis} is {word}: {ratio:.2f} ({low:.2f} to {high:.2f}) of the ideal",
                conclusion="; P and I correct it, but late",
                evidence={"ratio": ratio, "low": low, "high": high},
                proof="correct the feed-forward, or fly the card “Full holds” with automatic gains",
                causes=(f"forward_{word}",),
            )
        )  # fmt: skip
    return found


_GAIN_WORDS = {
    "still_rising": ("still rising", "fly another gain flight before you use them"),
    "too_few": ("based on too few holds", "hold for two full seconds, at least twenty times, and count aloud"),
    "never_moved": ("unchanged from the first hold to the last", "check that the automatic mode was on, then repeat the flight"),
    "not_settled": ("not settled", "fly another gain flight before you use them"),
}


def _gains(wing: Wing) -> list[Finding]:
    found = []
    for axis, own in wing.gain_flight.items():
        if own.verdict in _GAIN_WORDS:
            words, proof = _GAIN_WORDS[own.verdict]
            found.append(
                Finding(
                    code="gains_unsettled", severity="watch", confidence=None, axis=axis, kind="tune",
                    highlight=f"{own.repetitions} holds of {axis}, {own.overshoots} overshoots", proof=proof,
                    conclusion=f": the automatic gains are {words}", causes=("gains_unsettled",),
                    evidence={"repetitions": float(own.repetitions), "overshoots": float(own.overshoots)},
                )
            )  # fmt: skip
    return found
