"""What a flight's numbers speak for: findings, and what could not be tested."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.analysis.metrics import metrics_of
from nembrit.core.analysis.noise import noise_of
from nembrit.core.analysis.wing import wing_of
from nembrit.core.analysis.wingfindings import wing_findings
from nembrit.core.causes.finding import Finding
from nembrit.core.causes.findings import findings_of
from nembrit.core.causes.signs import check_unit
from nembrit.core.causes.weights import FEATURES
from nembrit.core.errors import CoreError
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Judgement:
    """Findings, most important first; `untested` says of each cause that could not be asked about what would change that."""

    findings: tuple[Finding, ...]
    untested: dict[str, str]
    measured: dict[str, float] = field(default_factory=dict)  # numbers that the causes were judged by

    @property
    def faults(self) -> tuple[Finding, ...]:
        """Findings above `info`."""
        return tuple(finding for finding in self.findings if finding.severity != "info")


def _run(flight: Flight) -> Judgement:
    doubts = _doubts(flight.impossible)
    if flight.craft.kind == "fixed_wing":
        wing = wing_of(flight)
        return Judgement(findings=(*doubts, *wing_findings(wing)), untested={})
    symptoms = flight.symptoms
    metrics = {**metrics_of(flight), **_passed_jitter(flight)}
    found = findings_of(flight, symptoms, metrics=metrics, history=flight.history)
    measured = {name: float(value) for name, value in symptoms.values.items() if math.isfinite(value)}
    return Judgement(findings=(*doubts, *found), untested=dict(symptoms.untested), measured=measured)


def _doubts(impossible: Mapping[str, str]) -> tuple[Finding, ...]:
    """One finding a family of channels whose numbers cannot be."""
    first: dict[str, str] = {}
    for role, reason in impossible.items():
        first.setdefault(role.rsplit(".", 1)[0], reason)
    return tuple(check_unit(reason) for reason in first.values())


def _passed_jitter(flight: Flight) -> dict[str, float]:
    """What the filters let through of the jitter band, where the raw gyro is there to compare with."""
    passed = {}
    for axis in AXES:
        if not flight.recording.has(f"gyro.{axis}", f"gyro_raw.{axis}"):
            continue
        try:
            level = noise_of(flight, f"gyro.{axis}").bands["jitter"].rms_dps
        except CoreError:
            continue
        if level is not None:
            passed[f"filtered_jitter.{axis}"] = level
    return passed


_TOLD = 9  # rises when signs or their words change; a change of causes raises the features of the weights
JUDGEMENT = Analysis(key="judgement", version=100 * FEATURES + _TOLD, result=Judgement, run=_run, in_words="what it speaks for")
