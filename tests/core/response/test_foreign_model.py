"""Margins on a rigid-body multirotor with rotor dynamics that nobody here wrote (the library rotorpy): physics, wind, drag."""

import pytest

from nembrit.core.response.authority import usable_mask
from nembrit.core.response.axisloop import LOOP_HZ, axis_loop
from nembrit.core.response.margins import margins
from nembrit.core.response.transfer import interpolated
from nembrit.core.types import AXES
from tests.rotormodel import SIGNS, flown, truth
from tests.trueloop import throttle_of_the_movement


@pytest.mark.long("the model takes half a minute to fly")
@pytest.mark.parametrize("axis", AXES)
def test_margins_of_a_foreign_model_are_found(axis: str) -> None:
    model, recording = flown(5)
    usable, _ = usable_mask(recording, axis, mixer=SIGNS)
    found = axis_loop(recording, axis, usable, mixer=SIGNS, controller=model.controller)
    known_hz, loop = truth(model, AXES.index(axis), throttle_of_the_movement(recording, axis, SIGNS))
    grid = LOOP_HZ[(known_hz[0] <= LOOP_HZ) & (known_hz[-1] >= LOOP_HZ)]
    edge = margins(grid, interpolated(grid, known_hz, loop))
    # acceptance table of the methods: caps of 5°, 3.5 dB and 12 %
    assert found.phase_margin_deg.value == pytest.approx(edge.phase_margin_deg, abs=5.0)
    assert found.phase_margin_deg.low <= edge.phase_margin_deg <= found.phase_margin_deg.high
    assert found.sensitivity_peak.value == pytest.approx(edge.sensitivity_peak, rel=0.12)
    if edge.gain_margin_db < 20:
        assert found.gain_margin_db.value == pytest.approx(edge.gain_margin_db, abs=3.5)
    for term in "pid":
        if flew := getattr(model.controller.gains[axis], term):
            assert found.gains[term].value == pytest.approx(flew, rel=0.03)
