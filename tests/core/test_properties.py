"""Laws that hold for any input, searched for counter-examples."""

from contextlib import suppress

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from nembrit.core.errors import InputError, LogReadError
from nembrit.core.filters.chain import chain_response, chain_sos, dc_delay_s
from nembrit.core.filters.sections import FilterSection
from nembrit.core.formats.nembrit_csv import exact_integers
from nembrit.core.formats.registry import check_head, read_log
from nembrit.core.records.log import Recording, Stream, channel
from nembrit.core.records.timebase import clock_of, uniform
from nembrit.core.setup.configuration import Setting, apply_changes, diff_settings, number
from nembrit.core.setup.namemap import GROUPS, group_of, propose_map
from nembrit.core.trials.overlay import overlay
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.welch import holm_adjusted, welch_test

_VALUES = st.lists(st.floats(-100, 100), min_size=4, max_size=9)


@settings(max_examples=80)
@given(st.binary(max_size=400))
def test_any_bytes_are_read_or_refused_on_purpose(content: bytes) -> None:
    with suppress(LogReadError):
        assert read_log(content).rows_read >= 2


_CELLS = st.sampled_from(["1", "-2.5", "", "x", "nan", "inf", "1e400", "0x10", "1,5", '"1"', "time [s]", " 3 ", "\x00", "é"])


@settings(max_examples=80)
@given(st.lists(st.lists(_CELLS, min_size=1, max_size=4), min_size=0, max_size=6))
def test_any_table_below_a_good_header_is_read_whole_or_refused(rows: list[list[str]]) -> None:
    body = "\n".join(",".join(row) for row in rows)
    content = ("time [s],gyro.roll [deg/s],mode\n" + body).encode()
    with suppress(LogReadError):
        assert read_log(content).rows_read == len(body.strip().splitlines())


@settings(max_examples=60)
@given(st.binary(max_size=300))
def test_looking_at_a_head_never_fails_otherwise(head: bytes) -> None:
    with suppress(LogReadError):
        check_head(head)


@settings(max_examples=100)
@given(hnp.arrays(np.float64, st.integers(1, 50), elements=st.floats(-1e9, 1e9)))
def test_integers_with_a_divisor_give_back_every_value(values: np.ndarray) -> None:
    samples, divisor = exact_integers(values)
    np.testing.assert_array_equal(samples / divisor, values)


@settings(max_examples=60)
@given(st.floats(50, 8000), st.lists(st.integers(1, 400), min_size=30, max_size=120), st.floats(0, 0.2))
def test_every_sample_finds_its_place_on_the_grid_once(rate_hz: float, jumps: list[int], jitter: float) -> None:
    jumps = [1 if jump < 380 else jump for jump in jumps]  # mostly regular, some gaps
    index = np.cumsum(jumps)
    noise = np.random.default_rng(1).uniform(-jitter, jitter, index.size)
    t_s = (index + noise) / rate_hz
    stream = Stream(t_s=t_s, channels=(channel("throttle", np.arange(index.size, dtype=np.int32)),))
    beyond = index[-1] - index[0] + 1 - (50 * index.size + 1000)
    assume(abs(beyond) > 2)  # there noise decides
    if beyond > 0:
        with pytest.raises(InputError, match="the log is mostly gaps"):
            uniform(stream)
        return
    found = uniform(stream)
    values = found.channels["throttle"]
    np.testing.assert_array_equal(values[np.isfinite(values)], np.arange(index.size))
    assert len(clock_of(t_s).gaps_s) == sum(jump > 1 for jump in jumps[1:])


@given(st.integers(1, 400), st.integers(0, 500), st.integers(0, 500))
def test_a_span_never_leaves_the_recording(n: int, first: int, last: int) -> None:
    whole = Recording.of({"throttle": np.arange(n, dtype=np.float64)}, sample_rate_hz=10.0, start_s=5.0)
    part = whole.span(5 + first / 10, 5 + last / 10)
    assert part.n_samples == max(0, min(n, last) - min(first, n)) or part.n_samples == 0
    assert part.duration_s == part.n_samples / 10
    if part.n_samples:
        assert part.channels["throttle"][0] == first


_SETTINGS = st.dictionaries(st.text(min_size=1, max_size=8), st.text(max_size=8), min_size=1, max_size=8)


@given(_SETTINGS, _SETTINGS)
def test_a_diff_says_exactly_what_leads_from_one_to_the_other(before: dict[str, str], after: dict[str, str]) -> None:
    old, new = (tuple(Setting(*pair) for pair in found.items()) for found in (before, after))
    changes = diff_settings(old, new)
    rebuilt = {**before, **{change.name: change.after for change in changes if change.after is not None}}
    for change in changes:
        if change.after is None:
            del rebuilt[change.name]
    assert set(rebuilt) == set(after)
    for name, value in rebuilt.items():
        assert value == after[name] or number(value) == number(after[name])
    assert apply_changes(old, {}) == old


@given(st.lists(st.text(max_size=30), max_size=10))
def test_any_names_get_known_meanings_each_once(names: list[str]) -> None:
    found = propose_map(names)
    keys = [meaning.key for meaning in found.values()]
    assert len(keys) == len(set(keys))
    assert all(group_of(key) in GROUPS for key in keys)


@settings(max_examples=60)
@given(_VALUES, st.floats(-50, 50), st.floats(0.1, 10))
def test_a_permutation_test_does_not_care_for_shift_and_scale(values: list[float], shift: float, scale: float) -> None:
    is_after = [number % 2 == 1 for number in range(len(values))]
    rough = [round(value, 3) for value in values]
    first = permutation_test(rough, is_after)
    assert first.smallest_p <= first.p_value <= 1
    # a tie decided by the last binary digit may count on either side
    moved = permutation_test([shift + scale * value for value in rough], is_after).p_value
    spread = np.ptp(rough)
    assert moved == pytest.approx(first.p_value, abs=0.35 if spread < 1 else 0.1)


@settings(max_examples=60)
@given(_VALUES)
def test_both_one_sided_tests_together_cover_everything(values: list[float]) -> None:
    is_after = [number % 2 == 1 for number in range(len(values))]
    lower = permutation_test(values, is_after).p_value
    higher = permutation_test([-value for value in values], is_after).p_value
    assert lower + higher >= 1 - 1e-9


@given(st.lists(st.floats(0, 1), min_size=1, max_size=12))
def test_holm_only_raises_and_keeps_the_order(p_values: list[float]) -> None:
    adjusted = holm_adjusted(p_values)
    assert all(after >= before and after <= 1 for before, after in zip(p_values, adjusted, strict=True))
    order = np.argsort(p_values, kind="stable")
    assert (np.diff(np.array(adjusted)[order]) >= -1e-12).all()


@given(_VALUES, _VALUES)
def test_welch_is_the_same_from_both_sides(before: list[float], after: list[float]) -> None:
    assume(np.var(before) > 0 or np.var(after) > 0)
    one, other = welch_test(before, after), welch_test(after, before)
    assert one.p_value == pytest.approx(other.p_value, abs=1e-9)
    assert one.difference == pytest.approx(-other.difference, abs=1e-9)
    assert one.interval[0] <= one.difference <= one.interval[1]


@given(st.lists(hnp.arrays(np.float64, 5, elements=st.floats(-10, 10)), min_size=1, max_size=6))
def test_an_overlay_lies_between_its_curves(curves: list[np.ndarray]) -> None:
    x = np.arange(5.0)
    found = overlay([(x, curve) for curve in curves])
    assert (found.low <= found.mean + 1e-12).all()
    assert (found.mean <= found.high + 1e-12).all()
    assert (found.n_curves, found.n_left_out) == (len(curves), 0)
    assert overlay([(x, curves[0]), (x[:3], curves[0][:3])]).n_left_out == 1
    assert overlay([]) is None


_SECTIONS = st.builds(
    FilterSection,
    kind=st.sampled_from(["lowpass_1", "lowpass_2", "notch"]),
    frequency_hz=st.floats(10, 900),
    q=st.floats(0.3, 8),
    discretisation=st.sampled_from(["bilinear", "backward_euler"]),
)


@settings(max_examples=80)
@given(st.lists(_SECTIONS, min_size=1, max_size=4))
def test_chains_pass_slow_movement_whole_and_add_their_delays(sections: list[FilterSection]) -> None:
    rate_hz = 2000.0
    sos = chain_sos(sections, sample_rate_hz=rate_hz)
    assert chain_response(sos, np.array([0.0]), sample_rate_hz=rate_hz)[0] == pytest.approx(1.0, abs=1e-6)
    parts = [dc_delay_s(chain_sos([section], sample_rate_hz=rate_hz), sample_rate_hz=rate_hz) for section in sections]
    assert dc_delay_s(sos, sample_rate_hz=rate_hz) == pytest.approx(sum(parts), rel=1e-6, abs=1e-9)
    # the phase just above 0 Hz is the delay: −2π f τ
    slow = np.angle(chain_response(sos, np.array([0.01]), sample_rate_hz=rate_hz)[0])
    assert -slow / (2 * np.pi * 0.01) == pytest.approx(sum(parts), rel=2e-3, abs=2e-6)
