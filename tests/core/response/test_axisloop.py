"""One axis as a loop: gains as they act, margins and following against the simulator's own loop, and honest refusals."""

from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.loop import LOOP, Loop
from nembrit.core.analysis.run import analyse
from nembrit.core.errors import CoreError
from nembrit.core.records.log import Recording
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.response.authority import level_mask, usable_mask
from nembrit.core.response.axisloop import AxisLoop, axis_loop
from nembrit.core.response.curves import curves_from_configuration
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.gains import logged_gains
from nembrit.core.response.impulse import decimated
from nembrit.core.response.margins import margins
from nembrit.core.response.plant import Measured, Plant, fit_plant
from nembrit.core.response.sureness import is_rough
from nembrit.core.response.terms import d_curve
from nembrit.core.response.throttle import throttle_gains
from nembrit.core.response.tracking import authority, flies_itself, flies_itself_share, tracking
from nembrit.core.response.transfer import interpolated
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.simulate.airframe import World, airframe_of
from nembrit.core.simulate.flight import fly
from tests.flying import CARD, HEX, controller, flown, recording
from tests.trueloop import throttle_of_the_movement, true_loop

MIXER = HEX.mixer()


def told(part: Recording, axis: str = "roll", **options: object) -> AxisLoop:
    usable, _ = usable_mask(part, axis, mixer=MIXER)
    return axis_loop(part, axis, usable, **{"mixer": MIXER, **options})


def without(*families: str) -> Recording:
    part = recording(flown(5))
    kept = {role: values for role, values in part.channels.items() if not role.startswith(families)}
    return replace(part, channels=kept)


@pytest.mark.parametrize("axis", ["roll", "pitch", "yaw"])
def test_gains_as_they_act_are_those_that_flew(axis: str) -> None:
    # acceptance table of the methods: 0.3, 2, 0.5 and 2 %
    part = recording(flown(5))
    usable, _ = usable_mask(part, axis, mixer=MIXER)
    found, flew = told(part, axis, controller=controller()).gains, controller().gains[axis]
    for term, limit in (("p", 0.003), ("i", 0.02), ("d", 0.005), ("f", 0.02)):
        if getattr(flew, term):
            assert found[term].value == pytest.approx(getattr(flew, term), rel=limit)
            assert found[term].low <= getattr(flew, term) <= found[term].high
        else:
            assert term not in found
    alone = logged_gains(part, axis, usable, curve.curve if (curve := d_curve(part, axis)) else None)
    assert alone["p"].value == found["p"].value


def test_what_d_makes_of_the_gyro_is_read_without_turning_it() -> None:
    # a large, slow craft moves below the first bins: what leaks from there must not turn or shrink gyro → D
    flight = fly(
        Craft(name="slow", kind="multirotor", motors=layout_motors("octo"), diameter_in=8.0), controller(), CARD, World(seed=4)
    )
    curve = d_curve(recording(flight), "roll")
    assert curve is not None
    at = np.array([4.0, 6.0, 8.0, 12.0, 20.0, 40.0])
    flew = controller()
    alone = replace(flew, gains={"roll": replace(flew.gains["roll"], p=0.0, i=0.0)})
    ratio = interpolated(at, *curve.curve) / curves_from_configuration(alone, "roll", at).feedback
    assert np.abs(ratio) == pytest.approx(1.0, abs=0.01)
    assert np.degrees(np.angle(ratio)) == pytest.approx(0.0, abs=1.0)


@pytest.mark.parametrize(("end_s", "rough"), [(28.0, False), (16.0, True)])
def test_a_short_flight_tells_some_numbers_by_their_intervals_only(end_s: float, rough: bool) -> None:
    found = told(recording(flown(5), 2.5, end_s), controller=controller())
    assert found.rough["phase_margin_deg"] is rough
    assert found.rough["overshoot_ratio"] is rough
    assert found.rough["rise_time_s"] is rough, "it goes with bandwidth and phase margin"
    assert not found.rough["peak_db"]


@pytest.mark.parametrize(
    ("name", "value", "half", "rough"),
    [
        ("phase_margin_deg", 60.0, 4.9, False), ("phase_margin_deg", 60.0, 5.1, True),
        ("gain_margin_db", 9.0, 3.4, False), ("gain_margin_db", 9.0, 3.6, True),
        ("sensitivity_peak", 1.5, 0.17, False), ("sensitivity_peak", 1.5, 0.19, True),
        ("bandwidth_hz", 10.0, 0.9, False), ("bandwidth_hz", 10.0, 1.1, True),
        ("rise_time_s", 0.03, 0.0035, False), ("rise_time_s", 0.03, 0.0037, True),
        ("settling_time_s", 0.1, 0.049, False), ("settling_time_s", 0.1, 0.051, True),
        ("delay_s", 0.02, 0.0024, False), ("delay_s", 0.02, 0.0026, True),
        ("peak_db", 1.0, 0.9, False), ("peak_db", 1.0, 1.1, True),
        ("overshoot_ratio", 0.1, 0.039, False), ("overshoot_ratio", 0.1, 0.041, True),
    ],
)  # fmt: skip
def test_from_when_on_an_interval_says_more_than_its_number(name: str, value: float, half: float, rough: bool) -> None:
    # the caps of the methods' acceptance table
    assert is_rough(name, Estimate(value=value, low=value - half, high=value + half)) is rough
    assert is_rough(name, None) is False


@pytest.mark.parametrize("axis", ["roll", "pitch", "yaw"])
def test_margins_are_those_of_the_simulated_loop(axis: str) -> None:
    part, row = recording(flown(5)), ("roll", "pitch", "yaw").index(axis)
    found = told(part, axis, controller=controller())
    throttle = throttle_of_the_movement(part, axis, MIXER)
    known_hz, loop, _ = true_loop(HEX, controller(), airframe_of(HEX), row, throttle)
    true = margins(known_hz, loop)
    assert found.phase_margin_deg.low <= true.phase_margin_deg <= found.phase_margin_deg.high
    assert found.phase_margin_deg.error < 7
    assert found.sensitivity_peak.value == pytest.approx(true.sensitivity_peak, rel=0.08)
    assert found.sensitivity_peak.low <= true.sensitivity_peak <= found.sensitivity_peak.high
    if true.gain_margin_db < 20:
        assert found.gain_margin_db.low <= true.gain_margin_db <= found.gain_margin_db.high
    else:
        assert found.gain_margin_db is None
    assert found.crossover_hz == pytest.approx(true.crossover_hz, rel=0.1)


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "1 kHz",
        "gently",
    ),
)
@pytest.mark.parametrize(
    ("card_key", "world", "is_whole"),
    [("response", World(seed=5, log_rate_hz=1000.0), True), ("first_hover", World(seed=6, wind_m_s=7.0), False)],
    ids=["1 kHz, whole-number set-points", "gently flown in wind"],
)
def test_odd_logs_keep_the_truth_within_their_intervals(card_key: str, world: World, is_whole: bool) -> None:
    flight = fly(HEX, controller(), next(card for card in CARDS if card.key == card_key), world)
    channels = {
        role: np.round(values) if is_whole and role.startswith("setpoint") else values for role, values in flight.channels.items()
    }
    part = Recording.of(channels, sample_rate_hz=world.log_rate_hz).span(2.5, flight.t_s[-1] - 2.0)
    for row, axis in enumerate(("roll", "pitch", "yaw")):
        found = told(part, axis)
        true = margins(*true_loop(HEX, controller(), airframe_of(HEX), row, throttle_of_the_movement(part, axis, MIXER))[:2])
        for name in ("phase_margin_deg", "sensitivity_peak"):
            estimate = getattr(found, name)
            assert estimate.low <= getattr(true, name) <= estimate.high
        assert found.gains["p"].value == pytest.approx(controller().gains[axis].p, rel=0.003)


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "missing1",
        "missing2",
    ),
)
@pytest.mark.parametrize(
    ("missing", "options", "gains_from", "command_from"),
    [
        ((), {}, "terms", "motors"),
        (("motor.",), {}, "terms", "terms"),
        (("gyro_raw",), {}, "terms", "motors"),
        (("term_",), {"controller": controller()}, "configuration", "motors"),
    ],
)
def test_what_is_not_logged_is_made_up_for_where_that_can_be(
    missing: tuple[str, ...], options: dict, gains_from: str, command_from: str
) -> None:
    whole, found = told(recording(flown(5)), controller=controller()), told(without(*missing), **options)
    assert (found.gains_from, found.command_from) == (gains_from, command_from)
    assert found.phase_margin_deg.value == pytest.approx(whole.phase_margin_deg.value, abs=6)
    if "motor." in missing:
        assert "no motor commands" in found.notes[0]


@pytest.mark.parametrize(
    ("missing", "window_s", "reason"),
    [
        (("term_", "command"), (2.5, 28.0), "the gains of roll are unknown"),
        (("term_", "command", "motor."), (2.5, 28.0), "margins need the motors’ commands or the control terms"),
        ((), (2.5, 7.0), "s of flying with authority"),
    ],
)
def test_what_cannot_be_told_says_what_is_missing(missing: tuple[str, ...], window_s: tuple[float, float], reason: str) -> None:
    with pytest.raises(CoreError, match=reason):
        told(without(*missing).span(*window_s) if window_s[0] > 2.5 or window_s[1] < 28 else without(*missing))


def test_a_loop_near_its_limit_still_gets_its_answer() -> None:
    part = recording(flown(5, changes=(("p_on_roll", "95"), ("d_on_roll", "70"))))
    found = told(part)
    assert found.sensitivity_peak.value > 1.6
    assert 10 < found.swing_hz < 60
    assert found.sensitivity_peak.low > told(recording(flown(5))).sensitivity_peak.value


@pytest.mark.parametrize("late_s", [0.0, 0.02])
def test_hard_stops_on_a_bent_stick_curve_are_flown_by_the_stick(late_s: float) -> None:
    rate_hz, rng = 1000.0, np.random.default_rng(4)
    stick = 0.03 * np.sin(2 * np.pi * 0.7 * np.arange(40_000) / rate_hz)
    for start in rng.integers(1000, 38_000, 12):
        stick[start : start + 180] += rng.choice((-0.9, 0.9))
    setpoint = np.roll(60 * stick + 540 * stick**3, round(late_s * rate_hz))
    part = Recording.of({"stick.roll": stick, "setpoint.roll": setpoint}, sample_rate_hz=rate_hz)
    assert flies_itself_share(part, "roll") < 0.1
    assert not flies_itself(part, "roll")


def test_a_mode_that_flies_by_itself_is_recognised_and_gives_no_margins() -> None:
    part = recording(flown(5))
    assert not flies_itself(part, "roll")
    rng = np.random.default_rng(3)
    own = np.convolve(rng.normal(0, 1, part.n_samples), np.hanning(800) / 400, mode="same")
    own *= 2 * part.channels["setpoint.roll"].std() / own.std()
    levelled = replace(part, channels={**part.channels, "setpoint.roll": part.channels["setpoint.roll"] + own})
    assert flies_itself(levelled, "roll")
    found = analyse(Flight(levelled, craft=CraftFacts(mixer=MIXER), spans=()), only=("loop",)).loop
    assert "levelling or position-holding" in found.reasons["roll"]
    assert set(found.axes) == {"pitch", "yaw"}


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_results_are_kept_and_come_back() -> None:
    flight = Flight(recording(flown(5)), craft=CraftFacts(mixer=MIXER, controller=controller()))
    found = analyse(flight, only=("loop",)).loop
    again = from_json(LOOP.result, to_json(found))
    assert isinstance(again, Loop)
    assert again.axes["roll"].phase_margin_deg.value == pytest.approx(found.axes["roll"].phase_margin_deg.value, rel=1e-6)
    assert again.authority == pytest.approx(found.authority) if found.authority is None else again.authority is not None


def test_tracking_coupling_and_authority() -> None:
    part = recording(flown(5))
    usable, _ = usable_mask(part, "roll", mixer=MIXER)
    found = tracking(part, "roll", usable)
    low, high = found.coherent_band_hz
    assert low <= 1.5
    assert high > 6
    assert found.error_p95_dps > found.error_rms_dps > 1
    crossed = replace(
        part, channels={**part.channels, "gyro.roll": part.channels["gyro.roll"] + 0.2 * part.channels["setpoint.pitch"]}
    )
    coupled = tracking(crossed, "roll", usable).coupling["pitch"]
    assert coupled.is_seen
    assert coupled.ratio == pytest.approx(0.2, abs=0.04)
    assert tracking(part, "roll", np.zeros(part.n_samples, bool)) is None
    left = authority(part, usable, Flight(part, craft=CraftFacts(mixer=MIXER)).spans)
    assert 0.3 < left.hover_headroom < 0.8
    assert all(0 <= share <= 1 for share in (left.lost_share, left.at_top_share, left.at_floor_share, left.punch_at_top_share))
    assert left.sag_v > 0.2
    assert authority(without("motor."), usable, ()) is None


def test_the_level_mask_sees_the_mixer_lift_all_motors() -> None:
    part = recording(flown(5))
    plain = level_mask(part, 6)
    lifted = dict(part.channels)
    for n in range(1, 7):
        lifted[f"motor.{n}"] = lifted[f"motor.{n}"].copy()
        lifted[f"motor.{n}"][20_000:21_000] += 0.08
    moved = level_mask(replace(part, channels=lifted), 6)
    assert not moved[19_905:21_095].any()
    assert moved[:19_000].sum() == pytest.approx(plain[:19_000].sum(), rel=0.01)
    assert level_mask(without("throttle"), 6).all()


@pytest.mark.parametrize("lead_s", [0.0, 0.02])
def test_a_plant_is_found_from_its_own_response(lead_s: float) -> None:
    true = Plant(gain=9000.0, lag_s=0.03, delay_s=0.007, damping_per_s=1.4, lead_s=lead_s)
    frequency_hz = np.geomspace(2, 60, 40)
    one = Measured(response=true.response(frequency_hz), error=np.full(40, 0.002), model=lambda plant: plant)
    found = fit_plant(frequency_hz, [one], has_lead=bool(lead_s))
    np.testing.assert_allclose(np.abs(found.response(frequency_hz) / true.response(frequency_hz)), 1, atol=0.01)
    assert found.lag_s + found.delay_s - found.lead_s == pytest.approx(true.lag_s + true.delay_s - true.lead_s, abs=0.001)


def test_margins_at_other_throttles_are_told_only_where_they_were_flown() -> None:
    found = {one.gain.part: one for one in told(recording(flown(5))).by_throttle}
    assert set(found) == {"low", "hover", "high"}
    assert found["hover"].gain.ratio.value == 1.0
    assert found["hover"].phase_margin_deg.value == pytest.approx(told(recording(flown(5))).phase_margin_deg.value)
    assert found["high"].gain.throttle > found["hover"].gain.throttle > found["low"].gain.throttle
    assert found["high"].phase_margin_deg is None, "one punch is too little"
    assert told(without("throttle")).by_throttle == ()


@pytest.mark.parametrize("ratio", [0.6, 1.0, 1.5])
def test_a_gain_that_changes_with_throttle_is_found(ratio: float) -> None:
    """A loop whose craft answers `ratio` times as strongly at high throttle, stirred at every throttle."""
    rate_hz, n = 500.0, 24_000
    rng = np.random.default_rng(3)
    throttle = np.where(np.arange(n) % 8000 < 5000, 0.4, 0.7)
    gain = np.where(throttle > 0.5, ratio, 1.0)
    setpoint = np.convolve(np.repeat(rng.normal(0, 150, n // 100), 100), np.ones(20) / 20, mode="same")
    gust = rng.normal(0, 0.6, n).cumsum() * 0.02
    rate, command = np.zeros(n), np.zeros(n)
    for k in range(1, n):
        command[k - 1] = 0.003 * (setpoint[k - 1] - rate[k - 1])
        rate[k] = rate[k - 1] + (gain[k] * 12_000 * command[k - 1] - 1.5 * rate[k - 1] + gust[k] * 30) / rate_hz
    part = Recording.of({"setpoint.roll": setpoint, "gyro.roll": rate, "throttle": throttle}, sample_rate_hz=rate_hz)
    frequency_hz = np.geomspace(0.4, 200, 400)
    plant = 12_000 / (2j * np.pi * frequency_hz + 1.5)
    found = throttle_gains(
        part,
        "roll",
        command,
        np.ones(n, bool),
        plant_of=plant,
        closed_of=plant * 0.003 / (1 + plant * 0.003),
        frequency_hz=frequency_hz,
    )
    high = next(one for one in found if one.part == "high").ratio
    assert high.low <= ratio <= high.high
    assert high.value == pytest.approx(ratio, rel=0.15)


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_a_long_flight_is_slowed_and_tells_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    flight = Flight(recording(flown(5)), craft=CraftFacts(mixer=MIXER, controller=controller()))
    whole = analyse(flight, only=("loop",)).loop
    monkeypatch.setattr("nembrit.core.response.loops._PLENTY", 20_000)
    slowed = analyse(flight, only=("loop",)).loop
    for axis, own in whole.axes.items():
        other = slowed.axes[axis]
        assert other.phase_margin_deg.value == pytest.approx(own.phase_margin_deg.value, abs=2.0)
        assert other.sensitivity_peak.value == pytest.approx(own.sensitivity_peak.value, rel=0.03)
        assert other.gains["p"].value == pytest.approx(own.gains["p"].value, rel=1e-3)
        assert other.delay_s.value == pytest.approx(own.delay_s.value, abs=0.0005)


def test_more_than_two_minutes_are_thinned_over_the_whole_flight() -> None:
    setpoint = np.tile(recording(flown(5)).channels["setpoint.roll"], 9)
    slowed = decimated((setpoint, setpoint), np.ones(setpoint.size, bool), 2000.0)
    keep, rate_hz = slowed.keep, slowed.rate_hz
    assert 110 < keep.sum() / rate_hz <= 125
    thirds = [part.sum() for part in np.array_split(keep, 3)]
    assert min(thirds) > 0.8 * max(thirds)
