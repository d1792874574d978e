"""The form of a finding."""

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """A number behind a finding, beside what nine in ten sound simulated flights show."""

    label: str
    unit: str
    value: float
    low: float | None = None
    high: float | None = None

    @property
    def is_usual(self) -> bool | None:
        """Whether sound craft show the like; None where that was never counted."""
        return None if self.low is None or self.high is None else self.low <= self.value <= self.high


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One judgement; `severity` is info, watch, act or stop, `kind` mechanical, electrical, aerodynamic,
    safety, tune or log.

    `confidence` is the share of like cases in which it proved right, on simulated flights; None for a single rule of the
    trade whose share was never measured.
    """

    code: str
    severity: str
    confidence: float | None
    highlight: str  # the numbers that it rests on, to be marked
    conclusion: str
    evidence: dict[str, float]
    proof: str
    kind: str = "mechanical"
    axis: str | None = None
    motor: int | None = None
    causes: tuple[str, ...] = ()
    likelihood: dict[str, float] = field(default_factory=dict)  # of the causes, where they were ranked
    look_alikes: tuple[tuple[str, str], ...] = ()  # what else it could be, and the test that tells
    caution: str = ""
    readings: tuple[Reading, ...] = ()
    title: str = ""  # what it is called in lists; empty: the code in words
    is_about_motors: bool = False
    marks_order: int | None = None
    marks_hz: tuple[float, float] | None = None

    @property
    def follows(self) -> str:
        """The conclusion as it follows the highlight: a blank before it, unless it begins with a mark."""
        return self.conclusion if self.conclusion.startswith((":", ",")) else f" {self.conclusion}"

    @property
    def summary(self) -> str:
        return f"{self.highlight}{self.follows}"

    @property
    def other_causes(self) -> tuple[tuple[str, float], ...]:
        """Causes beside its own that are likely enough to be named, with their likelihood."""
        named = [cause for cause in self.causes if cause != self.code and self.likelihood.get(cause)]
        return tuple((cause, self.likelihood[cause]) for cause in named)

    @property
    def holds_gains_back(self) -> bool:
        """Mechanics first: gains and filters wait while such a finding stands."""
        return self.severity in ("act", "stop") and self.kind in ("mechanical", "electrical")
