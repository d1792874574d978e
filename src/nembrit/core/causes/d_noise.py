"""D that passes noise on: motors move fast without purpose, which only heats them."""

import numpy as np

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Shown, Values, Words, log2, over
from nembrit.core.causes.sight import Sight
from nembrit.core.errors import NotEnoughData
from nembrit.core.noise.roughness import rms_above
from nembrit.core.records.log import Recording
from nembrit.core.records.needs import Need
from nembrit.core.spectra.density import welch_spectrum
from nembrit.core.types import AXES

_HIGH_HZ, _MIDDLE_HZ = (200.0, 400.0), (60.0, 150.0)
_LEAST_RATE_HZ = 500.0
_LEAST_ROUGHNESS = 0.01  # of the motors' range: less does not heat them, whatever D passes on


def _measure(sight: Sight) -> Measured:
    recording = sight.recording
    values: dict[str, float] = {}
    is_fast = recording.sample_rate_hz >= _LEAST_RATE_HZ
    if is_fast and sight.roughness is not None:
        values["output_roughness"] = sight.roughness.overall_ratio
    pairs = [
        (d, p)
        for axis in AXES[:2]
        if is_fast
        and (d := rms_above(recording, f"term_d.{axis}")) is not None
        and (p := rms_above(recording, f"term_p.{axis}")) is not None
    ]
    if pairs and min(p for _, p in pairs) > 0:
        values["d_over_p"] = max(d / p for d, p in pairs)
    opened = [level for axis in AXES[:2] if (level := _filter_db(recording, axis)) is not None]
    if opened:
        values["d_filter_db"] = max(opened)
    is_tested = "output_roughness" in values and pairs
    return Measured(
        values=values, untested="" if is_tested else "needs the motor commands and the P and D terms, at 500 Hz or more"
    )


def _filter_db(recording: Recording, axis: str) -> float | None:
    """What the D term's filters leave of 200 to 400 Hz against 60 to 150 Hz [dB]: power of the term over that of the filtered
    gyro's derivative, band against band, so that the noise's own shape does not count."""
    roles = (f"term_d.{axis}", f"gyro.{axis}")
    if not recording.has(*roles) or recording.sample_rate_hz < 2 * _HIGH_HZ[1]:
        return None
    try:
        term, gyro = (
            welch_spectrum(recording.channels[role], sample_rate_hz=recording.sample_rate_hz, segment_s=0.25) for role in roles
        )
    except NotEnoughData:
        return None
    passed = []
    for low_hz, high_hz in (_HIGH_HZ, _MIDDLE_HZ):
        band = (term.frequency_hz >= low_hz) & (term.frequency_hz <= high_hz)
        slope = gyro.psd_dps2_per_hz[band] @ gyro.frequency_hz[band] ** 2
        passed.append(float(term.psd_dps2_per_hz[band].sum() / max(float(slope), 1e-30)))
    return 10 * float(np.log10(passed[0] / passed[1])) if min(passed) > 0 else None


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "d_over_p" not in v or "output_roughness" not in v:
        return None
    ratio = over(log2(v["d_over_p"]), 3.9, 0.4)
    # an open filter is a fault only where D has something to pass on
    is_large = float(np.clip(log2(v["d_over_p"]) - 2.5, 0.0, 1.0))
    opened = over(v["d_filter_db"], -7.0, 1.5) * is_large if "d_filter_db" in v else 0.0
    # a hump in both axes is a shaking mount, whose noise D passes on as it must
    own = 1 - float(np.clip((v["hump_weaker_db"] - 3) / 3, 0.0, 1.0)) if "hump_weaker_db" in v else 1.0
    return tuple(own * sign for sign in (ratio, min(ratio, over(log2(v["output_roughness"]), -5.5, 0.75)), opened))


def _words(v: Values, seen: None) -> Words:
    return Words(
        highlight=f"Motor noise is {100 * v['output_roughness']:.1f} % above 60 Hz, and D adds {v['d_over_p']:.0f} "
        f"times as much as "
        "P does",
        conclusion=": it heats the motors without helping.",
        evidence={"output_roughness": v["output_roughness"], "d_over_p": v["d_over_p"]},
    )


CAUSE = Cause(
    code="d_noise",
    kind=TUNE,
    name="D noise",
    needs=Need(rate_hz=500, seconds=LEAST_S, all_of=("motor.", "term_d.", "term_p.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=3,
    words=_words,
    is_only_a_sign=lambda v: v["output_roughness"] < _LEAST_ROUGHNESS,
    look_alikes=(("a noisy gyro", "halve D for one flight: does the gyro's own noise stay?"),),
    shows=(
        Shown(name="output_roughness", label="motor movement above 60 Hz", unit="%", scale=100.0),
        Shown(name="d_over_p", label="D against P above 60 Hz", unit="times"),
        Shown(name="d_filter_db", label="what D’s filters leave at 200 to 400 Hz", unit="dB"),
    ),
    proof="Lower the D filter or halve D for one short flight: motors must be cooler and the outputs smoother.",
)
