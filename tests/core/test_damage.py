"""Damage and variation: what does not matter changes no answer, worse data never give a surer one, sound craft stay sound."""

from functools import lru_cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.analysis.flight import CraftFacts
from nembrit.core.analysis.run import FlightResults, analyse
from tests.damage import HARMLESS, RATES, WORSE, Damage, Table, flight_of
from tests.flying import HEX, controller, flown

CRAFT = CraftFacts(mixer=HEX.mixer(), blades=3, controller=controller())


@lru_cache
def sound() -> Table:
    flight = flown(7)
    return Table(t_s=flight.t_s, channels={role: values for role, values in flight.channels.items() if "rpm" not in role})


def answers(damage: Damage | None) -> FlightResults:
    table = sound() if damage is None else damage(sound())
    return analyse(flight_of(table, CRAFT), only=("loop", "judgement", "metrics"))


@lru_cache
def whole() -> FlightResults:
    return answers(None)


def some(names: list[str], always: set[str]) -> list[object]:
    """All of them; what is not always asked is left to the full check."""
    return [
        name if name in always else pytest.param(name, marks=pytest.mark.long("the usual damages run always")) for name in names
    ]


@pytest.mark.parametrize("name", some([*HARMLESS, *RATES], {"0.3 % of rows lost", "late stamps", "at 990 Hz"}))
def test_what_does_not_matter_changes_no_answer(name: str) -> None:
    found = answers((HARMLESS | RATES)[name])
    for axis in ("roll", "pitch"):
        own, other = whole().loop.axes[axis], found.loop.axes[axis]
        for number in ("phase_margin_deg", "gain_margin_db", "sensitivity_peak", "bandwidth_hz", "delay_s"):
            was, becomes = getattr(own, number), getattr(other, number)
            assert becomes.low <= was.value <= becomes.high, number
            assert becomes.error >= 0.75 * was.error, "an answer that gets surer"
    assert not [finding.code for finding in found.judgement.faults if finding.severity in ("act", "stop")]


@pytest.mark.parametrize("name", some(list(WORSE), {"1 % lost in bursts of 40", "clipped gyros", "no motors"}))
def test_worse_data_never_give_a_surer_answer_nor_a_fault(name: str) -> None:
    found = answers(WORSE[name])
    for axis, own in found.loop.axes.items():
        was = whole().loop.axes[axis].phase_margin_deg
        if was is not None and own.phase_margin_deg is not None:
            assert own.phase_margin_deg.error >= 0.75 * was.error
            assert abs(own.phase_margin_deg.value - was.value) <= own.phase_margin_deg.error + was.error
    assert not [finding.code for finding in found.judgement.faults if finding.severity in ("act", "stop")]
    missing = {"roll", "pitch", "yaw"} - set(found.loop.axes)
    assert all(found.loop.reasons[axis] for axis in missing), "what cannot be known is refused with the reason"


def test_lost_rows_take_no_descent_and_no_noise_band_away() -> None:
    found = answers(HARMLESS["1 % of rows lost"]).metrics.values
    assert set(found) == set(whole().metrics.values)
    for name in ("motion_noise.roll", "jitter_noise.roll", "tracking_error.pitch"):
        assert found[name] == pytest.approx(whole().metrics.values[name], rel=0.02)
    assert np.isfinite(list(found.values())).all()


@pytest.mark.long("forty whole analyses")
@settings(max_examples=40, derandomize=True)
@given(st.lists(st.sampled_from(list(HARMLESS | WORSE)), min_size=2, max_size=3, unique=True), st.sampled_from(list(RATES)))
def test_any_damage_together_ends_in_an_answer_or_a_reason(names: list[str], rate: str) -> None:
    def damage(table: Table) -> Table:
        for name in names:
            if not name.startswith("at "):
                table = (HARMLESS | WORSE)[name](table)
        return RATES[rate](table)

    found = answers(damage)
    for axis in ("roll", "pitch", "yaw"):
        assert axis in found.loop.axes or found.loop.reasons[axis]
    for axis, own in found.loop.axes.items():
        was = whole().loop.axes[axis].phase_margin_deg
        if was is not None and own.phase_margin_deg is not None:
            assert abs(own.phase_margin_deg.value - was.value) <= own.phase_margin_deg.error + was.error
    assert not [finding.code for finding in found.judgement.faults if finding.severity in ("act", "stop")]
