"""What manoeuvres, windows and alignments are found from: slow movements, at about 500 Hz whatever the log's rate."""

from dataclasses import replace

from nembrit.core.records.log import FlightLog, Recording
from nembrit.core.records.timebase import thinned, uniform

SLOW_HZ = 500.0
PILOT_ROLES = ("throttle", "setpoint.", "stick.")
PHASE_ROLES = (*PILOT_ROLES, "motor.", "gyro.", "gyro_raw.", "accel.", "servo.", "airspeed", "ground_speed")
ALIGN_ROLES = (*PHASE_ROLES, "altitude", "battery_voltage")


def slow_recording(log: FlightLog, families: tuple[str, ...] = PHASE_ROLES) -> Recording:
    """The main stream's channels of some families on a uniform clock of about 500 Hz: enough for what a pilot does."""
    main = log.main
    channels = tuple(channel for channel in main.channels if channel.role and channel.role.startswith(families))
    return uniform(thinned(replace(main, channels=channels), most_hz=SLOW_HZ))
