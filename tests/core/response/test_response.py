"""Step response, authority and manoeuvre scores."""

import numpy as np
import pytest
import scipy.signal

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.manoeuvres.detect import snap_stops, wash_descents
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import applied, lost_share, usable_mask
from nembrit.core.response.estimate import jackknifed
from nembrit.core.response.loop import integral_over_proportional
from nembrit.core.response.scores import bounce_back_dps, tracking_error_dps, wash_rms_dps
from nembrit.core.response.step import UncertainStep, step_response
from nembrit.core.response.tracking import tracking
from tests.flying import HEX, flown, recording

RATE_HZ = 1000.0


def lively_setpoint(seconds: float, seed: int = 1) -> np.ndarray:
    """Jumps to random rates, rounded by a hand."""
    rng = np.random.default_rng(seed)
    steps = np.repeat(rng.normal(0, 120, int(seconds * 4)), int(RATE_HZ / 4))
    return scipy.signal.lfilter(np.hanning(40) / np.hanning(40).sum(), [1.0], steps)


def second_order(damping: float, natural_hz: float, setpoint: np.ndarray) -> np.ndarray:
    wn = 2 * np.pi * natural_hz
    return scipy.signal.lsim(([wn**2], [1, 2 * damping * wn, wn**2]), setpoint, np.arange(setpoint.size) / RATE_HZ)[1]


# overshoot of the second-order system: Ogata, Modern Control Engineering, ch. 5: exp(−πζ/√(1−ζ²)), table to its last digit
@pytest.mark.parametrize(("damping", "overshoot_pct"), [(0.4, 25.383), (0.5, 16.303), (0.6, 9.478), (0.7, 4.599)])
@pytest.mark.parametrize("noise_dps", [0.5, 4.0])
def test_overshoot_of_a_second_order_system_is_the_textbook_s(damping: float, overshoot_pct: float, noise_dps: float) -> None:
    setpoint = lively_setpoint(25)
    gyro = second_order(damping, 7.0, setpoint) + np.random.default_rng(5).normal(0, noise_dps, setpoint.size)
    found = step_response(setpoint, gyro, np.ones(setpoint.size, bool), sample_rate_hz=RATE_HZ)
    assert found.overshoot_ratio * 100 == pytest.approx(overshoot_pct, abs=2.0)  # acceptance table: 2 percentage points
    low, high = found.overshoot_interval
    assert low - 0.005 <= overshoot_pct / 100 <= high + 0.005


def test_delay_of_a_second_order_system() -> None:
    setpoint = lively_setpoint(25)
    found = step_response(setpoint, second_order(0.5, 7.0, setpoint), np.ones(setpoint.size, bool), sample_rate_hz=RATE_HZ)
    t_s = np.arange(0, 0.3, 1e-5)
    step = scipy.signal.step(([1], [1, 1.0, 1]), T=t_s * 2 * np.pi * 7.0)[1]
    assert found.delay_s == pytest.approx(t_s[np.argmax(step >= 0.5)], abs=0.0007)  # acceptance table: 0.7 ms


@pytest.mark.parametrize(
    ("setpoint", "usable_s", "message"),
    [
        (lively_setpoint(25), 4.0, "only .* s of flying with authority"),
        (np.zeros(25_000), 25.0, "not enough stick movement .* fly the half-minute card"),
        (np.random.default_rng(3).normal(0, 3, 25_000), 25.0, "not enough stick movement"),
    ],
)
def test_refuses_with_what_to_fly(setpoint: np.ndarray, usable_s: float, message: str) -> None:
    usable = np.arange(setpoint.size) < usable_s * RATE_HZ
    with pytest.raises(NotEnoughData, match=message):
        step_response(setpoint, setpoint, usable, sample_rate_hz=RATE_HZ)


@pytest.mark.parametrize(("scale", "wander_dps"), [(0.0, 6.0), (0.5, 0.1), (-1.0, 0.1), (57.3, 0.1)])
def test_a_gyro_that_does_not_follow_is_refused(scale: float, wander_dps: float) -> None:
    setpoint = lively_setpoint(20)
    gyro = scale * second_order(0.5, 7.0, setpoint) + np.cumsum(np.random.default_rng(8).normal(0, wander_dps, setpoint.size))
    with pytest.raises(NotEnoughData, match="does not follow the set-point"):
        step_response(setpoint, gyro, np.ones(setpoint.size, bool), sample_rate_hz=RATE_HZ)


@pytest.mark.parametrize(("damping", "least", "most"), [(0.08, 0.2, 0.85), (0.7, 0.0, 0.1)])
def test_a_response_too_uncertain_to_show_still_tells_how_far_it_overshoots_at_least(
    damping: float, least: float, most: float
) -> None:
    """True overshoots 0.777 and 0.046 (Ogata, as above); gusts as strong as the sticks."""
    setpoint = lively_setpoint(9)
    gusts = np.random.default_rng(8).normal(0, 1, setpoint.size)
    gyro = second_order(damping, 7.0, setpoint) + scipy.signal.lfilter(*scipy.signal.butter(1, 4, fs=RATE_HZ), gusts) * 900
    with pytest.raises(UncertainStep, match=r"overshoot -?\d+ ± \d+ percentage points") as refused:
        step_response(setpoint, gyro, np.ones(setpoint.size, bool), sample_rate_hz=RATE_HZ)
    assert least <= refused.value.least_overshoot_ratio <= most


def test_a_slow_log_is_refused() -> None:
    with pytest.raises(InputError, match="200 Hz or more, this one has 50 Hz"):
        step_response(np.zeros(900), np.zeros(900), np.ones(900, bool), sample_rate_hz=50.0)


def test_masked_rows_do_not_count() -> None:
    setpoint = lively_setpoint(30)
    gyro = second_order(0.5, 7.0, setpoint)
    spoiled = gyro.copy()
    spoiled[8000:12_000] = 999.0
    usable = np.ones(gyro.size, bool)
    usable[7900:12_100] = False
    found = step_response(setpoint, spoiled, usable, sample_rate_hz=RATE_HZ)
    assert found.overshoot_ratio == pytest.approx(0.163, abs=0.02)


def test_a_gap_in_the_log_does_not_spoil_the_step() -> None:
    setpoint = lively_setpoint(30)
    gyro = second_order(0.5, 7.0, setpoint)
    gyro[10_000:10_400] = np.nan
    found = step_response(setpoint, gyro, np.ones(gyro.size, bool), sample_rate_hz=RATE_HZ)
    assert found.overshoot_ratio == pytest.approx(0.163, abs=0.02)


def test_the_inverse_mixer_gives_back_the_command() -> None:
    part = recording(flown())
    given = applied(part, HEX.mixer())
    calm = slice(2000, 6000)  # hover: nothing saturates
    np.testing.assert_allclose(given[0, calm], part.channels["command.roll"][calm], atol=5e-4)  # four decimals in the log


def test_lost_authority_and_full_throttle_are_left_out() -> None:
    part = recording(flown())
    usable, notes = usable_mask(part, "roll", mixer=HEX.mixer())
    assert notes == ()
    assert not usable[part.channels["throttle"] > 0.71].any()
    assert 0.5 < usable.mean() < 0.97


@pytest.mark.parametrize(
    ("throttle", "share", "motors_at_limit", "expected"),
    [
        (0.4, 0.0, True, 0.0),
        (0.4, 0.25, True, 0.25),
        (0.4, 1.0, True, 1.0),
        (0.4, 1.0, False, 0.0),
        (0.05, 0.5, True, None),
        (None, 0.5, True, None),
    ],
)
def test_share_of_flying_without_authority(
    throttle: float | None, share: float, motors_at_limit: bool, expected: float | None
) -> None:
    """A mixer that is not the craft's own makes authority look lost: the motors must be seen at their limits."""
    usable = np.arange(8000) >= share * 8000
    motor = np.where(np.arange(8000) % 100 < 50, 1.0 if motors_at_limit else 0.6, 0.4)
    motor[:40] = 0.05
    channels = {"motor.1": motor} | ({} if throttle is None else {"throttle": np.full(8000, throttle)})
    found = lost_share(Recording.of(channels, sample_rate_hz=RATE_HZ), usable)
    assert found == (None if expected is None else pytest.approx(expected, abs=0.06))


@pytest.mark.parametrize("ki_over_kp", [0.3, 4.0])
@pytest.mark.parametrize("held_share", [0.0, 0.7])
def test_i_over_p_is_read_where_the_integral_is_not_held(ki_over_kp: float, held_share: float) -> None:
    """The integral creeps at a tenth while authority is lost; those stretches must not make I look low."""
    p = np.repeat(np.random.default_rng(2).normal(0, 0.05, 400), 100)
    usable = np.arange(p.size) >= held_share * p.size
    i = np.cumsum(ki_over_kp * p * np.where(usable, 1.0, 0.1)) / RATE_HZ
    log = Recording.of({"term_p.roll": p, "term_i.roll": i}, sample_rate_hz=RATE_HZ)
    assert integral_over_proportional(log, "roll", usable) == pytest.approx(ki_over_kp, rel=0.02)
    if held_share:
        assert integral_over_proportional(log, "roll") == pytest.approx(ki_over_kp / 10, rel=0.02)
    assert integral_over_proportional(log, "roll", np.zeros(p.size, bool)) is None


def test_what_could_not_be_checked_is_said() -> None:
    _, notes = usable_mask(Recording.of({"gyro.roll": np.zeros(2000)}, sample_rate_hz=RATE_HZ, start_s=0.0), "roll", mixer=None)
    assert len(notes) == 2


def test_a_log_with_more_motors_than_the_craft_is_not_taken_for_its_own() -> None:
    _, notes = usable_mask(recording(flown()), "roll", mixer=HEX.mixer()[:4])
    assert "just the craft's motors" in notes[0]


def test_manoeuvres_of_the_card_are_found() -> None:
    part = recording(flown())
    assert [len(snap_stops(part, axis)) >= 2 for axis in ("roll", "pitch", "yaw")] == [True] * 3
    (descent,) = wash_descents(part)
    assert 18 < descent.start_s < 23  # the card sinks from 20.5 s on


def test_scores_of_a_perfect_follower_are_zero_and_of_a_bouncing_one_its_swing() -> None:
    setpoint = np.concatenate((np.zeros(1000), np.full(500, 400.0), np.zeros(4000)))
    channels = {"setpoint.roll": setpoint, "gyro.roll": setpoint.copy()}
    perfect = Recording.of(channels, sample_rate_hz=RATE_HZ, start_s=0.0)
    assert bounce_back_dps(perfect, "roll", snap_stops(perfect, "roll")) == 0.0
    assert tracking_error_dps(perfect, "roll", usable=np.ones(5500, bool)) == 0.0
    gyro = setpoint.copy()
    gyro[1600:1650] = -60.0
    swinging = Recording.of({"setpoint.roll": setpoint, "gyro.roll": gyro}, sample_rate_hz=RATE_HZ, start_s=0.0)
    assert bounce_back_dps(swinging, "roll", snap_stops(swinging, "roll")) == pytest.approx(60.0, rel=0.15)
    t_s = np.arange(setpoint.size) / RATE_HZ
    shaking = {**channels, "gyro.roll": setpoint + 50 * np.sin(2 * np.pi * 290 * t_s)}  # what the gyro hears is no movement
    noisy = Recording.of(shaking, sample_rate_hz=RATE_HZ, start_s=0.0)
    assert bounce_back_dps(noisy, "roll", snap_stops(noisy, "roll")) < 3.0
    assert wash_rms_dps(swinging, "roll", wash_descents(swinging)) is None  # no throttle channel: no descent


@pytest.mark.parametrize("failed", [1, 3, 5])
def test_blocks_that_cannot_be_left_out_widen_an_interval(failed: int) -> None:
    known = [5.0 + 0.1 * (k % 3) for k in range(12)]
    whole = jackknifed(5.1, known)
    less = jackknifed(5.1, [None] * failed + known[failed:])
    assert less.error > whole.error
    assert jackknifed(5.1, [None] * 6 + known[6:]) is None, "half of the flight decides: it is not known"


def test_noise_alone_has_no_coherent_band() -> None:
    rng = np.random.default_rng(3)
    for seconds in (4.0, 6.0, 12.0):
        n = int(seconds * RATE_HZ)
        channels = {"setpoint.roll": rng.normal(0, 50, n), "gyro.roll": rng.normal(0, 50, n)}
        found = tracking(Recording.of(channels, sample_rate_hz=RATE_HZ), "roll", np.ones(n, bool))
        assert found.coherent_band_hz is None
