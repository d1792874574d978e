"""The one decision: its order, that it passes the gate, and that it leads somewhere from every flight."""

import json
from dataclasses import replace
from pathlib import Path

import jsonschema
import pytest

from nembrit.core.analysis.decision import CHANGE, FLY, REPAIR, VERIFY, Decision, decide
from nembrit.core.causes.finding import Finding
from nembrit.core.report.choosing import advice_document
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.design import target_for
from tests.core.tuning.trying import BASE, bench, low, scaled

HIGH = scaled({axis: {"p": 3.4} for axis in ("roll", "pitch")})
SOFT = scaled({axis: {"p": 0.4, "d": 0.4} for axis in ("roll", "pitch")})
OPEN = replace(scaled({axis: {"d": 2.5} for axis in ("roll", "pitch")}), d_term=(low(400.0),))
SCHEMA = json.loads(Path("docs/schemas/advice.schema.json").read_text(encoding="utf-8"))


def finding(code: str, severity: str = "act", kind: str = "tune", axis: str | None = None) -> Finding:
    return Finding(
        code=code, severity=severity, confidence=0.9, highlight="It was seen", conclusion=".", evidence={}, proof="Fly.",
        kind=kind, axis=axis,
    )  # fmt: skip


BENT = finding("propeller", kind="mechanical")


def decided(settings: Controller, *findings: Finding, **options: bool) -> Decision:
    return decide(findings, bench(settings), diameter_in=6.0, **options)


@pytest.mark.parametrize(
    ("settings", "findings", "options", "kind", "group"),
    [
        (HIGH, (BENT,), {"is_latest": False}, FLY, None),  # nothing goes before flying what is set
        (HIGH, (BENT, finding("p_high")), {}, REPAIR, None),  # mechanics before margins
        (HIGH, (), {}, CHANGE, "pd."),  # margins by themselves, whatever findings say
        (HIGH, (finding("d_noise"), finding("i_low")), {}, CHANGE, "pd."),  # margins before heat and I
        (SOFT, (), {}, CHANGE, "pd."),  # speed where there is margin
    ],
)
def test_the_order(settings: Controller, findings: tuple, options: dict, kind: str, group: str | None) -> None:
    found = decided(settings, *findings, **options)
    assert found.kind == kind
    assert group is None or found.group.startswith(group)
    assert found.why.endswith(".")


def test_low_margins_are_led_back_with_d_kept_and_soft_ones_forward() -> None:
    back, forward = decided(HIGH), decided(SOFT)
    ((axis, terms),) = back.ratios.items()
    peaks = {one: own.sensitivity_peak.value for one, own in bench(HIGH).loop.axes.items()}
    assert axis == max(peaks, key=peaks.__getitem__), "the worst axis first"
    assert terms == {"p": pytest.approx(0.8)}
    assert all(terms["p"] >= 1.0 for terms in forward.ratios.values())


@pytest.mark.parametrize(
    ("settings", "codes"),
    [
        (BASE, ()), (BASE, ("p_high",)), (HIGH, ("i_low",)), (SOFT, ("filters_low",)), (OPEN, ()), (OPEN, ("d_noise",)),
        (OPEN, ("filters_open", "i_low")),
    ],
)  # fmt: skip
def test_whatever_is_decided_passes_the_gate_and_is_documented(settings: Controller, codes: tuple[str, ...]) -> None:
    tried = bench(settings)
    found = decide([finding(code, axis="roll" if code == "p_high" else None) for code in codes], tried, diameter_in=6.0)
    for one in (found, *found.alternatives):
        assert one.kind in (CHANGE, REPAIR, FLY, VERIFY)
        assert tried.ruling(one.change, target_rms=target_for("usual", 6.0)).is_open
        assert all(0.79 <= ratio <= 1.26 for terms in one.ratios.values() for ratio in terms.values())
    jsonschema.validate(advice_document(found, tried), SCHEMA)


@pytest.mark.parametrize(("findings", "says"), [((), "could be measured"), ((finding("idle_low"),), "idle up by a quarter")])
def test_without_a_loop_it_still_leads_on(findings: tuple, says: str) -> None:
    found = decide(findings, replace(bench(), loop=None), diameter_in=6.0)
    assert found.kind in (FLY, CHANGE)
    assert says in found.why
