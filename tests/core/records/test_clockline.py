"""A video's clock on the log's, from moments that were picked on both."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nembrit.core.errors import InputError
from nembrit.core.records.clockline import line_up


@given(st.floats(-500, 500), st.floats(0.991, 1.009), st.floats(0, 600), st.floats(3, 600), st.floats(0, 900))
def test_two_moments_give_offset_and_drift(offset: float, rate: float, first: float, apart: float, asked: float) -> None:
    pairs = [(t, offset + rate * t) for t in (first, first + apart)]
    for own in (pairs, pairs[::-1]):
        assert line_up(own).log_s(asked) == pytest.approx(offset + rate * asked, abs=1e-6)


@pytest.mark.parametrize(
    ("pairs", "told"),
    [([], "one or two"), ([(0, 0)] * 3, "one or two"), ([(1, 5), (2, 6)], "less than two seconds"),
     ([(0, 10), (10, 20.5)], "10.00 s pass in the video and 10.50 s in the log"), ([(0, 10), (10, 5)], "pick them again")],
)  # fmt: skip
def test_moments_that_do_not_fit_are_refused(pairs: list[tuple[float, float]], told: str) -> None:
    with pytest.raises(InputError, match=told):
        line_up(pairs)
