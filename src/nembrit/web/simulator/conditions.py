"""What can be wrong with a simulated craft, to choose from on the simulator's page."""

from typing import Any

# a plane's: servos of the V-tail or the ailerons stand where they fly straight
PLANE_CONDITIONS: dict[str, tuple[str, dict[str, Any]]] = {
    "sound": ("without any fault", {}),
    "out_of_trim": ("out of trim in roll and yaw", {"off_us": {"roll": 20.0, "yaw": 17.0}}),
    "tilted_horizon": ("with a horizon tilted by two degrees", {"tilt_deg": 2.0}),
    "tight_navigation": ("with too high a navigation gain", {"tight": 7.0}),
    "one_sided_thrust": ("with a motor that pulls to one side", {"thrust_aside_m": 0.05}),
    "late_return": ("with a return that turns low and climbs past its height", {"turns_early_m": 14.0, "climbs_over_m": 14.0}),
}

CONDITIONS: dict[str, tuple[str, dict[str, Any]]] = {
    "sound": ("without any fault", {}),
    "loose_mount": ("with a loose electronics tray", {"loose_mount": 1.0}),
    "bent_propeller": ("with a bent propeller on motor 2", {"propeller_motor": 2}),
    "worn_bearing": ("with a worn bearing in motor 3", {"bearing_motor": 3, "bearing_dps": 10.0}),
    "spikes": ("with electrical spikes on roll", {"spike_axis": "roll"}),
    "noisy_axis": ("with a noisy gyro axis, pitch", {"noisy_axis": "pitch"}),
    "ringing_frame": ("with a resonating frame", {"resonance_factor": 8.0}),
}
