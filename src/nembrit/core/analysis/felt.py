"""What a pilot felt or heard, what the trade says it points at, and whether the log bears it out."""

from dataclasses import dataclass

from nembrit.core.analysis.run import FlightResults
from nembrit.core.response.components import COMPONENTS

_TOO_NEAR = 2.0  # sensitivity peak (Åström & Murray recommend at most 2)


@dataclass(frozen=True, slots=True, kw_only=True)
class Symptom:
    """One thing that is felt; the table of the trade (common practice, no source)."""

    key: str
    label: str
    points_at: str
    components: tuple[str, ...]  # scores that would show it
    causes: tuple[str, ...] = ()  # ranked causes and signs that would


SYMPTOMS: dict[str, Symptom] = {
    one.key: one
    for one in (
        Symptom(key="buzz", label="a fast buzz, or hot motors", points_at="P or D far too high, or noise",
                components=("full_throttle",),
                causes=("d_noise", "p_high", "oscillation", "propeller", "bearing", "loose_mount")),
        Symptom(key="wobble", label="a slow wobble in hover", points_at="I too low, or the centre of gravity",
                components=("hover_wobble",), causes=("i_low",)),
        Symptom(key="wash", label="wobble while descending through prop wash", points_at="I too high, D too low, or delay",
                components=("wash",), causes=("wash", "filters_low")),
        Symptom(key="dips", label="the nose dips or rises when the throttle jumps", points_at="I too low on that axis",
                components=("punch_hold", "chop_hold"), causes=("i_low",)),
        Symptom(key="bounce", label="it bounces back after a hard stop", points_at="P too low, D a little low, or I winding up",
                components=("bounce_back",), causes=("p_high",)),
        Symptom(key="slides", label="it slides wide in fast turns", points_at="yaw P too low, or no yaw authority left",
                components=("yaw_shortfall",)),
        Symptom(key="shimmy", label="shimmy when the throttle comes back after a float", points_at="idle too low",
                components=("float_shimmy",), causes=("idle_low",)),
        Symptom(key="full", label="an oscillation that can be heard at full "
            "throttle", points_at="P or D too high at high throttle",
                components=("full_throttle",), causes=("p_high", "oscillation")),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Crossed:
    """A felt symptom beside what the log shows."""

    symptom: Symptom
    verdict: str  # shown, not shown, not flown
    told: str


def crossed(results: FlightResults, felt: list[str]) -> list[Crossed]:
    """Each felt symptom with the log's evidence: it shows it, does not, or the manoeuvre was not flown."""
    return [_one(results, SYMPTOMS[key]) for key in dict.fromkeys(felt) if key in SYMPTOMS]


def _one(results: FlightResults, symptom: Symptom) -> Crossed:
    loop, judgement = results.loop, results.judgement
    findings = [one for one in (judgement.findings if judgement else ()) if one.code in symptom.causes and one.severity != "info"]
    scores = [one for one in (loop.scores if loop else ()) if one.key in symptom.components]
    notable = [one for one in scores if one.is_notable]
    near = [axis for axis, own in (loop.axes if loop else {}).items() if own.sensitivity_peak.value > _TOO_NEAR]
    if findings:
        return Crossed(symptom=symptom, verdict="shown", told=findings[0].highlight)
    if notable:
        worst = max(notable, key=lambda one: one.value / (COMPONENTS[one.key].notable or 1.0))
        return Crossed(symptom=symptom, verdict="shown", told=f"{COMPONENTS[worst.key].label} of {worst.axis} is large")
    if near and symptom.key in ("buzz", "full", "bounce"):
        return Crossed(symptom=symptom, verdict="shown", told=f"{near[0]} has little margin, so P is not too low")
    if not scores:
        names = " or ".join(dict.fromkeys(kind.replace("_", " ") for key in symptom.components for kind in COMPONENTS[key].kinds))
        return Crossed(symptom=symptom, verdict="not flown", told=f"no {names} in this flight: fly the full card to see it")
    return Crossed(
        symptom=symptom, verdict="not shown",
        told="the log does not show it: its numbers are normal. It may be in another flight, or have another cause",
    )  # fmt: skip
