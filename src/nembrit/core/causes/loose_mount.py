"""A flight controller or tray that sits loose: a broad hump in roll and pitch at every throttle."""

from collections.abc import Mapping

import numpy as np

from nembrit.core.causes.cause import LEAST_S, MECHANICAL, Cause, Measured, Repair, Shown, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.noise.hump import Hump, hump_of
from nembrit.core.records.needs import Need
from nembrit.core.spectra.density import Spectrum
from nembrit.core.types import AXES


def _measure(sight: Sight) -> Measured:
    frames = sight.frames
    if frames is None:
        return Measured(untested=sight.reasons["frames"])
    humps: dict[str, Hump] = {}
    for role, density in sight.densities.items():
        spectrum = Spectrum(
            frequency_hz=frames.frequency_hz, psd_dps2_per_hz=density, n_segments=frames.t_s.size, n_effective=frames.t_s.size / 3
        )
        if (hump := hump_of(spectrum)) is not None:
            humps[role.split(".")[-1]] = hump
    if not {"roll", "pitch"} <= humps.keys():
        return Measured(seen=humps, untested="needs the gyro of roll and pitch, logged at 640 Hz or more")
    both = [humps[axis] for axis in AXES[:2]]
    values = {
        "hump_weaker_db": min(hump.excess_db for hump in both),
        "hump_stronger_db": max(hump.excess_db for hump in both),
        "hump_width_hz": max(hump.width_hz for hump in both),
        "hump_hz": max(both, key=lambda hump: hump.excess_db).peak_hz,
    }
    return Measured(values=values, seen=humps)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "hump_weaker_db" not in v:
        return None
    # the higher, the rather a part of the frame: a mount of 100 Hz is broad, a frame's mode there is not
    least_hz = 8 + 12 * float(np.clip((v["hump_hz"] - 85) / 15, 0.0, 1.0))
    wide = float(np.clip((v["hump_width_hz"] - least_hz) / 12, 0.0, 1.0))
    return (over(v["hump_weaker_db"], 0.0, 2.5) * wide, over(v["hump_stronger_db"], 3.0, 2.5) * wide)


def _words(v: Values, humps: Mapping[str, Hump]) -> Words:
    loud = max((humps[axis] for axis in AXES[:2] if axis in humps), key=lambda hump: hump.excess_db)
    return Words(
        highlight=f"A hump of {loud.excess_db:.1f} dB around {loud.peak_hz:.0f} Hz",
        conclusion="in roll and pitch: the flight controller or its tray is probably loose.",
        evidence={"excess_db": loud.excess_db, "peak_hz": loud.peak_hz, "width_hz": loud.width_hz},
    )


CAUSE = Cause(
    code="loose_mount",
    kind=MECHANICAL,
    name="loose mount",
    needs=Need(rate_hz=450, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(
        ("a cracked arm", "press and twist every arm by hand; tap it and listen"),
        ("P too high", "fly with P a fifth lower: a loose mount keeps its hump"),
    ),
    shows=(
        Shown(name="hump_weaker_db", label="hump in the quieter of roll and pitch", unit="dB"),
        Shown(name="hump_width_hz", label="its width", unit="Hz"),
    ),
    proof="Press and tighten every part between frame and controller, then fly the same card again.",
    repair=Repair(
        part="flight controller tray",
        title="Pressed and tightened the mount",
        button="Record the tightened mount",
        metric="motion_noise.roll",
    ),
    title="loose mount or tray",
    marks_hz=(42.0, 132.0),
)
