"""What a plane's numbers speak for: the multirotor's causes are never asked about."""

from nembrit.core.analysis.wing import Wing
from nembrit.core.causes.finding import Finding
from nembrit.core.wing.rates import forward_word
from nembrit.core.wing.returnrule import ReturnRule, judge_return
from nembrit.core.wing.weaving import Weaving
from nembrit.core.wing.words import signed

_TRIM_US = 15.0  # from where moving a centre is worth it (common practice, no source)


def wing_findings(wing: Wing) -> tuple[Finding, ...]:
    """Findings of a plane, most important first."""
    found = _returns(wing)
    weaving = wing.weaving
    if weaving is not None and weaving.side is not None:
        found.append(_pulled(weaving, wing.told_by_speed))
    if weaving is not None and weaving.verdict in ("navigation_gain", "both"):
        found.append(_swings(weaving))
    found += _trims(wing)
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
                proof="Correct height, turn or radius in the settings, then fly it again, in sight and ready to take over.",
                causes=("return_failed",), caution="Until a return has passed, stay where you can fly home by hand.",
            )
        )  # fmt: skip
    return found


def _pulled(weaving: Weaving, by_speed: str) -> Finding:
    n = sum((leg.bank_deg > 0) == (weaving.bank_deg > 0) for leg in weaving.legs)
    cause = "a yaw trim" if by_speed == "trim" else "a yaw trim or a tilted horizon; one speed cannot tell which"
    proof = (
        "move the trim, land, move the servo centres and set the radio's trim back to zero, then fly the same legs"
        if by_speed == "trim"
        else "fly fifty seconds slow and fifty fast, hands off: a trim creeps more when fast, a tilted horizon less"
    )
    return Finding(
        code="yaw_trim", severity="act", confidence=None, kind="aerodynamic", axis="yaw",
        highlight=f"Pulled to the {weaving.side} on {n} of {len(weaving.legs)} legs, {abs(weaving.creep_deg_s):.1f} deg/s",
        conclusion=f": {cause}. Leave the navigation as it is meanwhile; loosening it would only mask this",
        evidence={"creep_deg_s": weaving.creep_deg_s, "bank_deg": weaving.bank_deg, "bank_error_deg": weaving.bank_error_deg},
        proof=proof, causes=("yaw_trim", "tilted_horizon", "one_sided_thrust"),
    )  # fmt: skip


def _swings(weaving: Weaving) -> Finding:
    return Finding(
        code="navigation_gain", severity="watch", confidence=None, kind="tune", axis="roll",
        highlight=f"Swings from side to side at {weaving.line_hz or 0:.2f} Hz",
        conclusion=": the navigation follows its line too tightly",
        evidence={"line_hz": weaving.line_hz or 0.0, "share": weaving.swing_share},
        proof="lower the navigation's gain by a third and fly the same legs", causes=("navigation_gain",),
    )  # fmt: skip


def _trims(wing: Wing) -> list[Finding]:
    found = []
    for axis, own in (wing.trim.axes if wing.trim else {}).items():
        low, high = own.interval_us
        if abs(own.trim_us) >= _TRIM_US and low * high > 0:
            found.append(
                Finding(
                    code=f"{axis}_trim" if axis != "yaw" else "yaw_centre", severity="watch", confidence=None, axis=axis,
                    kind="aerodynamic", highlight=f"{axis.capitalize()} is held by {signed(own.trim_us)} µs hands off",
                    conclusion=", which the controller hides: in manual it lurches",
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
        word = "fits" if own.forward_ratio is None else forward_word(own.forward_ratio)
        if own.forward_ratio is None or word == "fits":
            continue
        ratio, (low, high) = own.forward_ratio
        found.append(
            Finding(
                code=f"forward_{word}", severity="watch", confidence=None, axis=axis, kind="tune",
                highlight=f"Feed-forward of {axis} is {word}: {ratio:.2f} ({low:.2f} to {high:.2f}) of what it needs",
                conclusion="; P and I make up for it, later than they need to",
                evidence={"ratio": ratio, "low": low, "high": high},
                proof="change the feed-forward towards it, or fly the card “Full holds” with the automatic gains",
                causes=(f"forward_{word}",),
            )
        )  # fmt: skip
    return found


_GAIN_WORDS = {
    "still_rising": ("still rising", "fly another gain flight before you use them"),
    "too_few": ("of too few holds", "hold for two full seconds, at least twenty times, and count aloud"),
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
