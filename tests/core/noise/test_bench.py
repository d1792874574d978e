"""Frames, motor speeds, lines, motors, spikes, vibration, maps and sensors on logs whose truth is known."""

from collections.abc import Callable

import numpy as np
import pytest
import scipy.signal

from nembrit.core.causes.symptoms import symptoms_of
from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.balance import permissible
from nembrit.core.noise.lines import noise_lines
from nembrit.core.noise.maps import noise_map, spectrogram
from nembrit.core.noise.motors import once_per_turn, once_per_turn_estimated, rough_noise
from nembrit.core.noise.roughness import output_roughness
from nembrit.core.noise.select import amplitude, chosen_samples, chosen_spectrum, cumulative_rms
from nembrit.core.noise.sensors import attribute, band_ratios, chip_ringing, raw_gyro_ringing, shared_ringing
from nembrit.core.noise.spikes import noisiest_axis, spikes_of
from nembrit.core.noise.vibration import vibration_of
from nembrit.core.records.log import Recording
from nembrit.core.rotors.orders import order_mask
from nembrit.core.rotors.search import speed_law
from nembrit.core.rotors.track import RotorTrack, commanded_track, rotor_track
from nembrit.core.simulate.airframe import SecondGyro, airframe_of
from nembrit.core.spectra.density import welch_spectrum
from nembrit.core.spectra.frames import Frames, frames_of
from nembrit.core.spectra.levels import whitened
from tests.faulty import flown, frames, sight, without
from tests.flying import HEX


def test_frames_with_a_gap_are_left_out_and_energy_is_kept() -> None:
    rng = np.random.default_rng(1)
    gyro = rng.normal(0, 2.0, 20_000)
    gyro[9000] = np.nan
    found = frames_of(Recording.of({"gyro_raw.roll": gyro}, sample_rate_hz=2000.0))
    assert found.t_s.size == (20_000 - 512) // 128 + 1 - 4  # four frames of 512 hold sample 9000
    # Parseval: the density of white noise sums up to its variance
    assert float(found.power["gyro_raw.roll"].mean(axis=0).sum() * found.bin_hz) == pytest.approx(4.0, rel=0.05)


@pytest.mark.parametrize(
    ("channels", "rate_hz", "told"),
    [
        ({"throttle": np.ones(9000)}, 1000.0, "no gyro channel"),
        ({"gyro.roll": np.ones(300)}, 1000.0, "at least 1 s|at least"),
        ({"gyro.roll": np.full(9000, np.nan)}, 1000.0, "without gaps"),
    ],
)
def test_logs_that_cannot_be_cut_say_why(channels: dict[str, np.ndarray], rate_hz: float, told: str) -> None:
    with pytest.raises(NotEnoughData, match=told):
        frames_of(Recording.of(channels, sample_rate_hz=rate_hz))


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
@pytest.mark.parametrize("seed", [11, 12, 13])
def test_motor_speed_is_estimated_where_it_is_not_recorded(seed: int) -> None:
    recording = flown(seed, "ramp")
    found = rotor_track(frames_of(without(recording, "motor_rpm")))
    assert found is not None
    assert not found.is_recorded
    true = frames_of(recording).rotor_hz.mean(axis=1)
    usual = (true > np.quantile(true, 0.2)) & (true < np.quantile(true, 0.95))
    assert np.median(np.abs(found.mean_hz[usual] / true[usual] - 1)) < 0.02  # acceptance: 2 %


@pytest.mark.parametrize("roles", [("motor_rpm", "motor."), ("motor_rpm",)])
def test_a_throttle_that_never_moves_gives_no_motor_speed(roles: tuple[str, ...]) -> None:
    steady = without(flown(), *roles)
    if "motor." not in roles:
        flat = {
            role: np.full(values.size, values.mean()) if role.startswith("motor.") else values
            for role, values in steady.channels.items()
        }
        steady = Recording.of(flat, sample_rate_hz=2000.0)
    assert rotor_track(frames_of(steady)) is None


@pytest.mark.parametrize("axis", ["roll", "pitch"])
def test_lines_are_named_by_what_moves_them(axis: str) -> None:
    shown = frames(seed=11, card="ramp", resonance_factor=8.0)
    lines = noise_lines(shown, f"gyro_raw.{axis}", rotor_track(shown), blades=3)
    fixed = [line for line in lines if line.kind == "resonance"]
    moving = [line for line in lines if line.kind == "motor"]
    true_hz = airframe_of(HEX).resonance_hz[0 if axis == "roll" else 1]
    assert fixed[0].frequency_hz == pytest.approx(true_hz, abs=3.0)
    assert moving[0].order == 1
    assert moving[0].low_hz < moving[0].frequency_hz < moving[0].high_hz
    assert all(0 < line.confidence < 1 for line in lines)


@pytest.mark.parametrize("slope", [-6.0, -3.0, 0.0, 4.0])
def test_a_level_is_nought_on_any_slope(slope: float) -> None:
    frequency_hz = np.arange(1, 257) * 3.90625
    level = whitened((frequency_hz**slope)[None, :], bin_hz=3.90625)[0]
    assert np.abs(level[(frequency_hz > 60) & (frequency_hz < 940)]).max() < 0.1


@pytest.mark.parametrize("axis", ["roll", "pitch", "yaw"])
@pytest.mark.parametrize("seed", [21, 22])
def test_beside_a_strong_resonance_no_other_line_is_seen(axis: str, seed: int) -> None:
    shown = frames(seed=seed, card="ramp", resonance_factor=9.0)
    found = noise_lines(shown, f"gyro_raw.{axis}", rotor_track(shown), blades=3)
    true_hz = airframe_of(HEX).resonance_hz
    for line in found:
        if line.kind == "resonance" and line.width_hz < 30:
            assert min(abs(line.frequency_hz - own) for own in true_hz) < 12


@pytest.mark.long("its other cases ask the same", only=("1000.0",))
@pytest.mark.parametrize("exponent", [0.7, 0.8, 1.0])
@pytest.mark.parametrize(("rate_hz", "lag_s"), [(1000.0, 0.0), (2000.0, 0.0), (1000.0, 0.02), (1000.0, 0.05)])
def test_the_law_of_speed_is_found_whatever_its_exponent(exponent: float, rate_hz: float, lag_s: float) -> None:
    """Lines drawn by a law of our own, folded where they pass half the rate; no simulator behind them."""
    rng = np.random.default_rng(5)
    t_s = np.arange(round(40 * rate_hz)) / rate_hz
    slow, brisk, quick = (np.sin(2 * np.pi * t_s / period_s) for period_s in (13, 3.1, 0.47))
    swept = 0.35 + 0.2 * slow + 0.1 * brisk - 0.03 * quick
    commands = [swept * (1 + 0.05 * k) for k in range(4)]
    share = 1 - np.exp(-1 / (lag_s * rate_hz)) if lag_s else 1.0
    speeds = [scipy.signal.lfilter([share], [1, share - 1], 320 * command**exponent) for command in commands]
    turns = [np.cumsum(speed) / rate_hz for speed in speeds]
    channels = {f"motor.{k + 1}": command for k, command in enumerate(commands)}
    for axis in ("roll", "pitch", "yaw"):
        lines = sum(np.sin(2 * np.pi * order * turn + k) / order for k, turn in enumerate(turns) for order in (1, 3))
        channels[f"gyro_raw.{axis}"] = lines + rng.normal(0, 2.0, t_s.size)
    law = speed_law(frames_of(Recording.of(channels, sample_rate_hz=rate_hz)))
    assert law is not None
    assert law.full_hz * 0.35**law.exponent == pytest.approx(320 * 0.35**exponent, rel=0.01)
    assert law.exponent == pytest.approx(exponent, abs=0.06)


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
@pytest.mark.parametrize("seed", [31, 32, 33])
def test_noise_without_lines_gives_no_law(seed: int) -> None:
    recording = without(flown(seed, "ramp"), "motor_rpm", "accel")
    rng = np.random.default_rng(seed)
    plain = {role: rng.normal(0, 2, values.size) for role, values in recording.channels.items() if role.startswith("gyro")}
    assert speed_law(frames_of(Recording.of({**recording.channels, **plain}, sample_rate_hz=2000.0))) is None


@pytest.mark.parametrize("motor", [1, 4, 6])
@pytest.mark.parametrize("recorded", [True, False])
def test_the_bent_propeller_is_named(motor: int, recorded: bool) -> None:
    recording = flown(11, propeller_motor=motor)
    if recorded:
        found = once_per_turn(recording, 6)
    else:
        shown = frames_of(without(recording, "motor_rpm"))
        track = rotor_track(shown)
        found = once_per_turn_estimated(shown, track) if track else None
    assert found is None or found.motor == motor  # may abstain without speeds, must not blame another
    if recorded:
        assert found.over_median > 3


@pytest.mark.parametrize("motor", [2, 5])
@pytest.mark.parametrize("track_of", [rotor_track, commanded_track])
def test_the_rough_bearing_is_named(motor: int, track_of: Callable[[Frames], RotorTrack | None]) -> None:
    shown = frames(seed=11, bearing_motor=motor, bearing_dps=10.0)
    found = rough_noise(shown, track_of(shown))
    assert (found.motor, found.over_second > 3) == (motor, True)


@pytest.mark.long("its other cases ask the same", only=("faults1",))
@pytest.mark.parametrize("faults", [{}, {"resonance_factor": 8.0}, {"bearing_motor": 4, "bearing_dps": 12.0}])
def test_where_no_line_tells_the_motors_speed_the_rest_is_still_judged(
    monkeypatch: pytest.MonkeyPatch, faults: dict[str, float]
) -> None:
    monkeypatch.setattr("nembrit.core.causes.sight.rotor_track", lambda _: None)
    found = symptoms_of(sight(without(flown(11, **faults), "motor_rpm"), blades=2))
    assert set(found.untested) & {"propeller", "bearing", "frame_resonance"} == {"propeller"}
    assert (found.values["resonance_rms_dps"] > 0.6) == ("resonance_factor" in faults)
    assert (found.values["rough_over_second"] > 4) == ("bearing_motor" in faults)


@pytest.mark.parametrize("axis", ["roll", "pitch", "yaw"])
@pytest.mark.parametrize("size_dps", [90.0, 250.0])
def test_planted_spikes_are_found_where_they_are(axis: str, size_dps: float) -> None:
    clean = flown()
    assert all(len(spikes_of(clean, one).times_s) == 0 for one in ("roll", "pitch", "yaw"))
    rng = np.random.default_rng(8)
    places = np.sort(rng.choice(np.arange(2000, clean.n_samples - 2000, 40), 30, replace=False))
    values = clean.channels[f"gyro_raw.{axis}"].copy()
    values[places] += size_dps * rng.choice([-1, 1], places.size)
    spiked = Recording.of({**clean.channels, f"gyro_raw.{axis}": values}, sample_rate_hz=2000.0)
    found = spikes_of(spiked, axis)
    hits = [np.abs(places / 2000 - time_s).min() < 0.002 for time_s in found.times_s]
    assert np.mean(hits) >= 0.97
    assert len(found.times_s) >= 0.95 * places.size
    assert found.verdict == "suspected"  # planted anywhere: the motors have no part in it
    assert noisiest_axis({one: spikes_of(spiked, one) for one in ("roll", "pitch", "yaw")}) == axis


def test_spikes_that_follow_motor_jumps_are_called_electrical() -> None:
    found = spikes_of(flown(11, spike_axis="pitch"), "pitch")
    assert found.verdict == "likely"
    assert found.coincident_ratio > 3 * found.chance_ratio
    assert spikes_of(without(flown(), "gyro_raw"), "roll") is None
    alone = spikes_of(without(flown(11, spike_axis="pitch"), "motor"), "pitch")
    assert (alone.coincident_ratio, alone.verdict) == (None, "suspected")


def test_vibration_rises_with_a_bent_propeller() -> None:
    sound, bent = (vibration_of(one, frames_of(one)) for one in (flown(), flown(11, propeller_motor=2)))
    assert all(bent.accel_rms_m_s2[axis] > 1.3 * sound.accel_rms_m_s2[axis] for axis in "xyz")
    assert bent.axis_separation < sound.axis_separation
    assert set(output_roughness(flown()).by_motor) == {1, 2, 3, 4, 5, 6}
    nothing = vibration_of(without(flown(), "accel", "motor", "term", "command"), frames_of(without(flown(), "accel")))
    assert (nothing.accel_rms_m_s2, nothing.axis_separation, nothing.command_peak_hz) == ({}, None, {})


@pytest.mark.parametrize("peak_hz", [12.0, 84.0])
def test_the_command_s_busiest_frequency(peak_hz: float) -> None:
    t_s = np.arange(20_000) / 2000
    noise = np.random.default_rng(2).normal(0, 0.01, t_s.size)
    made = {
        "gyro.roll": noise,
        "command.roll": 0.1 * np.sin(2 * np.pi * peak_hz * t_s) + noise,
        "throttle": np.full(t_s.size, 0.3),
    }
    recording = Recording.of(made, sample_rate_hz=2000.0)
    assert vibration_of(recording, frames_of(recording)).command_peak_hz["roll"] == pytest.approx(peak_hz, abs=4)


def test_a_rarely_flown_throttle_is_as_bright_as_any() -> None:
    rng = np.random.default_rng(4)
    throttle = np.concatenate((np.full(60_000, 0.3), np.full(3000, 0.7)))
    recording = Recording.of({"gyro_raw.roll": rng.normal(0, 1, throttle.size), "throttle": throttle}, sample_rate_hz=2000.0)
    found = noise_map(frames_of(recording), "gyro_raw.roll")
    rows = {round(float(low), 2): n for n, low in enumerate(found.edges[:-1])}
    often, seldom = rows[max(low for low in rows if low <= 0.3)], rows[max(low for low in rows if low <= 0.7)]
    assert found.density[often].mean() == pytest.approx(found.density[seldom].mean(), rel=0.15)
    assert found.seconds[often] > 10 * found.seconds[seldom] > 0
    assert np.isnan(found.density[0]).all()
    assert spectrogram(frames_of(recording), "gyro_raw.roll", n_columns=50).density.shape[0] == 50


@pytest.mark.parametrize(("by_speed", "told"), [(True, "motor speed"), (False, "neither throttle nor motor")])
def test_a_map_needs_something_to_lay_out_over(by_speed: bool, told: str) -> None:
    bare = frames_of(Recording.of({"gyro_raw.roll": np.random.default_rng(1).normal(size=9000)}, sample_rate_hz=1000.0))
    with pytest.raises(NotEnoughData, match=told):
        noise_map(bare, "gyro_raw.roll", by_speed=by_speed)


def test_amplitude_and_summed_up_rms_of_a_sine() -> None:
    # a sine of peak 5 on a bin reads 5; its RMS is 5/√2
    t_s = np.arange(40_000) / 2000
    recording = Recording.of({"gyro_raw.roll": 5 * np.sin(2 * np.pi * 120 * t_s)}, sample_rate_hz=2000.0)
    spectrum = chosen_spectrum(recording, "gyro_raw.roll", np.ones(t_s.size, bool))
    assert amplitude(spectrum).max() == pytest.approx(5, rel=0.02)
    assert cumulative_rms(spectrum, from_hz=20)[-1] == pytest.approx(5 / np.sqrt(2), rel=0.01)
    assert cumulative_rms(spectrum, from_hz=200)[-1] < 0.01


@pytest.mark.parametrize(
    ("options", "seconds"),
    [
        ({}, 20.0),
        ({"kind": "hover", "spans": (Span(kind="hover", start_s=2, end_s=7),)}, 5.0),
        ({"throttle": (0.5, 1.0)}, 10.0),
        ({"kind": "punch"}, 0.0),
    ],
)
def test_stretches_are_chosen_by_manoeuvre_and_throttle(options: dict[str, object], seconds: float) -> None:
    throttle = np.concatenate((np.full(10_000, 0.2), np.full(10_000, 0.8)))
    recording = Recording.of(
        {"gyro_raw.roll": np.random.default_rng(1).normal(size=20_000), "throttle": throttle}, sample_rate_hz=1000.0
    )
    use = chosen_samples(recording, **options)
    assert use.sum() / 1000 == pytest.approx(seconds, abs=0.3)
    if seconds:
        assert chosen_spectrum(recording, "gyro_raw.roll", use).n_segments >= 3
    else:
        with pytest.raises(NotEnoughData, match="s of this flight are in this"):
            chosen_spectrum(recording, "gyro_raw.roll", use)


def test_a_throttle_range_needs_a_throttle() -> None:
    with pytest.raises(NotEnoughData, match="no throttle"):
        chosen_samples(Recording.of({"gyro.roll": np.ones(100)}, sample_rate_hz=100.0), throttle=(0.2, 0.4))


def test_two_gyros_and_a_swap() -> None:
    """The second board is noisier by itself and sees less of the frame: a swap of places parts the two."""
    pair = flown(21, second=SecondGyro(noise_factor=3.0))
    first, second = (welch_spectrum(pair.channels[f"{b}gyro_raw.roll"], sample_rate_hz=2000) for b in ("", "b/"))
    above = band_ratios(first, second)[-1]
    assert above.ratio < 1
    assert above.is_different
    same = band_ratios(first, first)
    assert all(ratio.ratio == 1 and not ratio.is_different for ratio in same)
    assert attribute(above, above).verdict == "sensor"
    turned = type(above)(band="above", ratio=1 / above.ratio, interval=(1 / above.interval[1], 1 / above.interval[0]))
    assert attribute(above, turned).verdict == "place"
    assert attribute(same[0], same[0]).verdict == "neither"


@pytest.mark.parametrize(("damping", "rings"), [(0.18, True), (0.8, False)])
def test_a_low_pass_that_rings_is_recognised(damping: float, rings: bool) -> None:
    import scipy.signal

    rng = np.random.default_rng(6)
    w0 = 2 * np.pi * 260
    b, a = scipy.signal.bilinear([w0**2], [1, 2 * damping * w0, w0**2], fs=2000)
    found = chip_ringing(welch_spectrum(scipy.signal.lfilter(b, a, rng.normal(size=80_000)), sample_rate_hz=2000))
    assert (found is not None) == rings
    if rings:
        assert found.frequency_hz == pytest.approx(260, abs=25)


@pytest.mark.parametrize("faults", [{}, {"resonance_factor": 8.0}])
def test_a_frame_that_rings_is_not_taken_for_the_chips_filter(faults: dict[str, float]) -> None:
    shown = frames(seed=11, **faults)
    assert raw_gyro_ringing(shown, order_mask(shown, rotor_track(shown))) == {}


@pytest.mark.parametrize(("pitch_hz", "n_found"), [(260, 3), (340, 0)])
def test_a_filter_is_that_of_all_axes(pitch_hz: float, n_found: int) -> None:
    import scipy.signal

    rng = np.random.default_rng(6)
    spectra = {}
    for axis, cutoff_hz in (("roll", 260), ("pitch", pitch_hz), ("yaw", 260)):
        w0 = 2 * np.pi * cutoff_hz
        b, a = scipy.signal.bilinear([w0**2], [1, 0.36 * w0, w0**2], fs=2000)
        spectra[axis] = welch_spectrum(scipy.signal.lfilter(b, a, rng.normal(size=80_000)), sample_rate_hz=2000)
    assert len(shared_ringing(spectra)) == n_found


@pytest.mark.parametrize(
    ("grade", "mass", "speed", "told"), [(0, 4, 9000, "grade"), (6.3, -1, 9000, "mass"), (6.3, 4, float("nan"), "speed")]
)
def test_balance_sums_refuse_what_cannot_be(grade: float, mass: float, speed: float, told: str) -> None:
    with pytest.raises(InputError, match=told):
        permissible(grade, mass, speed)
