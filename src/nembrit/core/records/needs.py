"""What a question needs of a log before it is asked: rate, channels, seconds. Below that it is refused, with the reason."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.records.log import Recording

_TOLERANCE = 0.95  # logs of 960 Hz count as 1 kHz


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """Of `any_of`, one family is enough; of `all_of`, every one is needed (roles or families of roles, such as ``motor.``)."""

    rate_hz: float = 0.0
    seconds: float = 0.0
    all_of: tuple[str, ...] = ()
    any_of: tuple[str, ...] = ()

    def lacking(self, recording: Recording) -> str:
        """What this recording lacks, in a sentence; "" where it has all.

        >>> Need(rate_hz=1000).lacking(Recording.of({"gyro.roll": np.zeros(400)}, sample_rate_hz=400.0))
        'needs a log of 1000 Hz or more, this one has 400 Hz'
        """
        if recording.sample_rate_hz < _TOLERANCE * self.rate_hz:
            return f"needs a log of {self.rate_hz:g} Hz or more, this one has {recording.sample_rate_hz:.4g} Hz"
        if recording.duration_s < self.seconds:
            return f"needs {self.seconds:g} s of flight, this one has {recording.duration_s:.1f} s"
        missing = [family for family in self.all_of if not _has(recording, family)]
        if missing:
            return f"needs {', '.join(_named(family) for family in missing)}: switch on their logging"
        if self.any_of and not any(_has(recording, family) for family in self.any_of):
            return f"needs {' or '.join(_named(family) for family in self.any_of)}: switch on their logging"
        return ""


_NAMES = {
    "gyro": "a gyro", "gyro.": "the filtered gyro", "gyro_raw.": "the raw gyro", "setpoint.": "the set-points",
    "motor.": "the motor commands", "term_p.": "the P term", "term_d.": "the D term", "throttle": "the throttle",
}  # fmt: skip


def _has(recording: Recording, family: str) -> bool:
    return any(role.startswith(family) and np.isfinite(values).any() for role, values in recording.channels.items())


def _named(family: str) -> str:
    return _NAMES.get(family, family.rstrip("."))
