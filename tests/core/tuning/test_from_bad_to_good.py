"""From a bad chain and soft gains to a good tune by what is advised, a flight for every slip."""

from dataclasses import replace

import pytest

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.run import FlightResults
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.best import limits_for
from nembrit.core.tuning.design import best_chain, target_for
from nembrit.core.tuning.whatif import Change
from tests.core.tuning.trying import analysed, low, scaled
from tests.flying import HEX

BAD = replace(
    scaled({axis: {"p": 0.6, "i": 0.8, "d": 0.6} for axis in ("roll", "pitch")}), gyro=(low(70.0),), d_term=(low(45.0),)
)


def bench(found: FlightResults, flown: Controller) -> Choosing:
    assert found.response is not None
    return Choosing(
        loop=found.loop, steps=found.response.steps, shaping=found.shaping, flown=flown, mixer=HEX.mixer(), most_notches=1
    )


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_five_flights_from_bad_to_good_without_a_number_of_one_s_own() -> None:
    settings, seed = BAD, 31
    found = first = analysed(settings, seed)
    target = target_for("bold", 6.0)
    met = []
    for group in ("gyro", "d_term", "roll", "pitch"):  # a flight after each: five in all
        tried = bench(found, settings)
        if group in ("gyro", "d_term"):
            pins = frozenset({"d_term"} if group == "gyro" else {"gyro", "notches"})
            new = best_chain(tried.task(pins), target).chains
            change = Change(chains=new)
        else:
            best = tried.best(group, limits_for("bold", max(1.0, target / found.shaping.roughness_ratio)))
            ratios = {group: {"p": best.p, "d": best.d}}
            new, change = scaled(ratios, settings), Change(gains=ratios)
        told = {axis: tried.predicted(axis, change) for axis in ("roll", "pitch")}
        motors = tried.motors(change)
        seed += 1
        settings, found = new, analysed(new, seed)
        for axis, one in told.items():
            after = found.loop.axes[axis]
            met += [
                abs(one.rise_time_s.value - after.rise_time_s.value) <= one.rise_time_s.error + after.rise_time_s.error,
                abs(one.phase_margin_deg.value - after.phase_margin_deg.value)
                <= one.phase_margin_deg.error + after.phase_margin_deg.error,
            ]
        met.append(motors.low * 0.9 <= found.shaping.roughness_ratio <= motors.high * 1.1)
    for axis in ("roll", "pitch"):
        before, after = first.loop.axes[axis], found.loop.axes[axis]
        assert after.rise_time_s.value < 0.85 * before.rise_time_s.value
        assert after.sensitivity_peak.value < 1.6
        assert found.response.steps[axis].overshoot_ratio < 0.15
    assert found.shaping.roughness_ratio <= 1.15 * target
    assert sum(met) >= 0.9 * len(met), "measured numbers lie in what was predicted in nine of ten"
