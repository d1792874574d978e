"""What the workshop knows of a craft for its sums; None where it knows nothing."""

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.errors import CoreError
from nembrit.core.setup.controller import Controller
from nembrit.web.bench.results import by_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import known_controller, latest_configuration
from nembrit.web.packs.services import fitting, mean_current_a

_RECENT = 8
_JUDGED = ("tracking_error.roll", "motion_noise.roll", "motor_roughness")


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """Numbers in the units of their names."""

    controller: Controller | None = None
    gyro_rate_hz: float | None = None
    filters_s: float | None = None
    motor_lag_s: float | None = None
    rotor_hz: float | None = None
    capacity_mah: float | None = None
    current_a: float | None = None
    airspeed_m_s: float | None = None
    wind_m_s: float | None = None
    scatter: Mapping[str, float] = field(default_factory=dict)  # by metric: standard deviation of its logarithm


def facts_of(craft: Craft) -> Facts:
    """From the settings, the packs and the newest analysed flights."""
    flights = list(craft.flights.active()[:_RECENT])
    packs, latest = fitting(craft), latest_configuration(craft)
    found: dict[str, float | None] = {}
    for _, own in by_flight(flights, "loop"):
        loop = own.loop if own else None
        axis = loop.axes.get("roll") if loop else None
        if axis is not None and "motor_lag_s" not in found:
            found["motor_lag_s"] = axis.lag_and_delay_s.value
    for _, own in by_flight(flights, "wing"):
        wing = own.wing if own else None
        if wing is not None and wing.wind is not None and "wind_m_s" not in found:
            found["wind_m_s"] = wing.wind.speed_m_s
        if wing is not None and wing.trim is not None and wing.trim.airspeed_m_s and "airspeed_m_s" not in found:
            found["airspeed_m_s"] = wing.trim.airspeed_m_s
    return Facts(
        controller=_controller(latest), capacity_mah=packs[0].capacity_mah if packs else None, current_a=mean_current_a(craft),
        scatter=scatter_of(craft), **found,
    )  # fmt: skip


def _controller(latest: object) -> Controller | None:
    try:
        return known_controller(latest) if latest is not None else None  # type: ignore[arg-type]
    except CoreError:
        return None


def scatter_of(craft: Craft) -> dict[str, float]:
    """How flights with equal card, settings and build differ: standard deviation of the logarithm, by metric.

    Pooled over the groups of the newest flights that have two or more.
    """
    flights = list(craft.flights.active().exclude(card_key="")[:40])
    groups: dict[tuple[object, ...], list[Mapping[str, float]]] = {}
    for flight, own in by_flight(flights, "metrics"):
        if own is not None and own.metrics is not None:
            state = (flight.card_key, flight.configuration_id, flight.build_entry_id)
            groups.setdefault(state, []).append(own.metrics.values)
    found = {}
    for name in _JUDGED:
        sides = [[float(np.log(one[name])) for one in group if one.get(name, 0) > 0] for group in groups.values()]
        known = [np.array(side) for side in sides if len(side) >= 2]
        freedom = sum(side.size - 1 for side in known)
        if freedom >= 2:
            found[name] = float(np.sqrt(sum(((side - side.mean()) ** 2).sum() for side in known) / freedom))
    return found
