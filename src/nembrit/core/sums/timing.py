"""What a loop's delay is made of, and from where on a faster output rate can no longer be felt."""

from dataclasses import dataclass

from nembrit.core.errors import InputError

_FELT_SHARE = 0.05  # of the whole delay: less is not felt (our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Budget:
    """Each part of a loop's delay [s]."""

    frame_s: float
    sensor_s: float
    filters_s: float
    computing_s: float
    command_s: float
    motor_s: float
    felt_rate_hz: float  # output rate beyond which a faster one saves too little to be felt

    @property
    def total_s(self) -> float:
        return self.sensor_s + self.filters_s + self.computing_s + self.command_s + self.motor_s


def delay_budget(
    *, gyro_rate_hz: float, loop_rate_hz: float, output_rate_hz: float, filters_s: float, motor_lag_s: float,
    frame_send_s: float = 0.0,
) -> Budget:  # fmt: skip
    """The delay from a movement to the thrust that answers it.

    Parameters
    ----------
    gyro_rate_hz, loop_rate_hz, output_rate_hz : float
        Rates [Hz] of gyro samples, control loop and motor updates.
    filters_s, motor_lag_s : float
        Group delay of the filters at the crossover, and time constant of motor and propeller [s].
    frame_send_s : float
        Time to send one command [s]; a pulse command takes its pulse.

    Notes
    -----
    A sample is on average half a period old, and a value that is held from update to update acts half a period late (the
    zero-order hold's delay of T/2: G. F. Franklin, J. D. Powell, M. Workman, *Digital Control of Dynamic Systems*, 3rd ed. 1998,
    section 4.3). The loop computes for one period. The rate from which a faster one cannot be felt is where half its frame is a
    twentieth of all the rest.
    """
    for name, value in (("gyro", gyro_rate_hz), ("loop", loop_rate_hz), ("output", output_rate_hz)):
        if not 10 <= value <= 1e6:
            raise InputError(f"the {name} rate goes from 10 to 1,000,000 Hz, got {value:g}")
    if not 0 <= filters_s <= 1 or not 0 <= motor_lag_s <= 1 or not 0 <= frame_send_s <= 1:
        raise InputError("delays go from 0 to 1000 ms")
    frame_s = 1.0 / output_rate_hz
    sensor_s, computing_s = 0.5 / gyro_rate_hz, 1.0 / loop_rate_hz
    rest_s = sensor_s + filters_s + computing_s + frame_send_s + motor_lag_s
    return Budget(
        frame_s=frame_s, sensor_s=sensor_s, filters_s=filters_s, computing_s=computing_s, command_s=frame_s / 2 + frame_send_s,
        motor_s=motor_lag_s, felt_rate_hz=0.5 / (_FELT_SHARE * rest_s),
    )  # fmt: skip
