"""The metrics that flights are compared by: one number per flight each."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.bands import BANDS, BandLevel
from nembrit.core.noise.roughness import OutputRoughness
from nembrit.core.records.log import Recording
from nembrit.core.response.scores import bounce_back_dps, tracking_error_dps, wash_rms_dps
from nembrit.core.response.step import StepResponse
from nembrit.core.types import AXES, BoolArray

_FULL_BANDS = {name: high_hz for name, _, high_hz in BANDS}


@dataclass(frozen=True, slots=True, kw_only=True)
class MetricKind:
    """One way to judge a flight. `scale` log: compared as ratios; linear: as differences, for values near 0."""

    key: str
    label: str
    unit: str
    per_axis: bool
    explain: str
    scale: str = "log"
    factor: float = 1.0  # stored value × factor = shown value
    better: str = "lower"
    craft: str = "multirotor"  # kind of craft that it is told of
    axes: tuple[str, ...] = AXES


METRICS: tuple[MetricKind, ...] = (
    MetricKind(key="motion_noise", label="motion noise", unit="deg/s", per_axis=True,
               explain="RMS of the raw gyro between 20 and 100 Hz, where the craft really moves"),
    MetricKind(key="jitter_noise", label="jitter noise", unit="deg/s", per_axis=True,
               explain="RMS of the raw gyro between 100 and 300 Hz"),
    MetricKind(key="motor_roughness", label="motor roughness", unit="%", per_axis=False, factor=100.0,
               explain="RMS of the motor commands above 60 Hz, share of full range: what heats motors"),
    MetricKind(key="tracking_error", label="tracking error", unit="deg/s", per_axis=True,
               explain="RMS of set-point minus gyro while the motors were not at their limits"),
    MetricKind(key="overshoot", label="overshoot", unit="%", per_axis=True, scale="linear", factor=100.0,
               explain="how far the response passes the set-point after a step"),
    MetricKind(key="step_delay", label="step delay", unit="ms", per_axis=True, factor=1000.0,
               explain="time to half of a step"),
    MetricKind(key="bounce_back", label="bounce-back", unit="deg/s", per_axis=True,
               explain="mean bounce-back after hard stops"),
    MetricKind(key="wash_rms", label="prop-wash shaking", unit="deg/s", per_axis=True,
               explain="RMS of the 2 to 40 Hz error while descending through prop wash"),
    MetricKind(key="held_trim", label="held trim", unit="µs", per_axis=True, craft="fixed_wing",
               explain="servo offset from centre while the controller flies hands off; resolution 2 µs"),
    MetricKind(key="lurch", label="lurch at the switch to manual", unit="deg/s", per_axis=True,
               craft="fixed_wing", axes=("roll", "pitch"),
               explain="mean rate from 0.35 to 0.8 s after the switch, before the pilot corrects; resolution 1 deg/s"),
    MetricKind(key="rate_delay", label="delay of the rate response", unit="ms", per_axis=True, factor=1000.0,
               craft="fixed_wing", axes=("roll", "pitch"), explain="time to half of a step of wanted rate"),
    MetricKind(key="rate_peak", label="peak of the rate response", unit="%", per_axis=True, factor=100.0,
               craft="fixed_wing", axes=("roll", "pitch"), explain="highest response to a step of wanted rate within a second"),
    MetricKind(key="pull", label="pull to one side", unit="deg/s", per_axis=False, craft="fixed_wing",
               explain="turn rate on straight legs that bank does not explain; resolution 0.1 deg/s"),
    MetricKind(key="sway", label="sway on straight legs", unit="deg", per_axis=False, craft="fixed_wing",
               explain="standard deviation of bank on straight legs"),
    MetricKind(key="off_line", label="distance from the line", unit="m", per_axis=False, craft="fixed_wing",
               explain="RMS distance from the planned lines"),
)  # fmt: skip

_BY_KEY = {metric.key: metric for metric in METRICS}


def metric_names(craft: str = "") -> tuple[str, ...]:
    """Every metric, or those of a kind of craft, by its full name, such as ``overshoot.roll``."""
    kinds = [kind for kind in METRICS if craft in ("", kind.craft)]
    return tuple(f"{kind.key}.{axis}" for kind in kinds if kind.per_axis for axis in kind.axes) + tuple(
        kind.key for kind in kinds if not kind.per_axis
    )


def metric_kind(name: str) -> MetricKind | None:
    """Kind of a full metric name, or None for a word that is no metric."""
    return _BY_KEY.get(name.split(".")[0]) if name in metric_names() else None


def mean_of(values: Sequence[float], kind: MetricKind) -> float | None:
    """Mean of a metric's values; the geometric one where changes are ratios, None without values that allow it.

    >>> kind = metric_kind("motor_roughness")
    >>> mean_of([1.0, 4.0], kind), mean_of([], kind), mean_of([0.0, 1.0], kind)
    (2.0, None, None)
    """
    if not values:
        return None
    if kind.scale == "linear":
        return sum(values) / len(values)
    return math.exp(sum(map(math.log, values)) / len(values)) if min(values) > 0 else None


def metric_label(name: str) -> str:
    """“motion noise, roll”; the name itself for a word that is no metric."""
    kind = metric_kind(name)
    if kind is None:
        return name
    return f"{kind.label}, {name.split('.')[1]}" if kind.per_axis else kind.label


def flight_metrics(
    recording: Recording,
    *,
    levels: Mapping[str, Sequence[BandLevel]],
    usable: Mapping[str, BoolArray],
    steps: Mapping[str, StepResponse],
    spans: Sequence[Span],
    roughness: OutputRoughness | None,
) -> dict[str, float]:
    """All metrics that this flight's recording can answer, in core units; the others are absent.

    `levels` are the band levels of the raw gyro, `usable` where each axis had authority, `steps` the step
    responses that could be estimated, all by axis; `spans` the manoeuvres, `roughness` that of the motor outputs.
    """
    found: dict[str, float | None] = {"motor_roughness": None if roughness is None else roughness.overall_ratio}
    for axis in AXES:
        for level in levels.get(axis, ()):
            if f"{level.name}_noise" in _BY_KEY and level.high_hz == _FULL_BANDS[level.name]:
                found[f"{level.name}_noise.{axis}"] = level.rms_dps
        if axis in usable:
            found[f"tracking_error.{axis}"] = tracking_error_dps(recording, axis, usable=usable[axis])
            found[f"bounce_back.{axis}"] = bounce_back_dps(recording, axis, spans)
            found[f"wash_rms.{axis}"] = wash_rms_dps(recording, axis, spans)
        if axis in steps:
            found[f"overshoot.{axis}"] = steps[axis].overshoot_ratio
            found[f"step_delay.{axis}"] = steps[axis].delay_s
    return {name: value for name, value in found.items() if value is not None}
