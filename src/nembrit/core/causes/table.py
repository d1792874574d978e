"""All causes, in the order in which they are measured and told."""

from nembrit.core.causes import (
    bearing,
    d_noise,
    electrical_spikes,
    filters_low,
    frame_resonance,
    i_low,
    idle_low,
    loose_arm,
    loose_mount,
    noisy_axis,
    p_high,
    propeller,
)
from nembrit.core.causes.cause import Cause

CAUSES: tuple[Cause, ...] = (
    loose_mount.CAUSE,
    frame_resonance.CAUSE,
    loose_arm.CAUSE,
    propeller.CAUSE,
    bearing.CAUSE,
    electrical_spikes.CAUSE,
    noisy_axis.CAUSE,
    d_noise.CAUSE,
    p_high.CAUSE,
    i_low.CAUSE,
    filters_low.CAUSE,
    idle_low.CAUSE,
)
BY_CODE = {cause.code: cause for cause in CAUSES}
