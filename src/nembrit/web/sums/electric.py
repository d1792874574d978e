"""Sums about packs, radio and power noise."""

import math
from collections.abc import Mapping
from functools import partial
from typing import Any

from nembrit.core.sums.energy import endurance
from nembrit.core.sums.powerfilter import Pick, pick_parts, power_filter
from nembrit.core.sums.radio import LinkBand, distance_at_limit, free_space_loss_db
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.hangar.models import Craft
from nembrit.web.sums.facts import Facts
from nembrit.web.sums.link import Heard, link_of
from nembrit.web.sums.sheet import Answer, Box, Sheet

_CELL_V = 3.7
_WANTED_DB = 20.0
_SPAN_HZ = (10.0, 1e6)


def electric_sheets(craft: Craft, facts: Facts) -> list[Sheet]:
    return [_endurance(facts), _radio(link_of(craft)), _filter(craft)]


def _endurance(facts: Facts) -> Sheet:
    return Sheet(
        key="endurance",
        title="Flying time, reserve and C rate",
        boxes=(
            Box(
                name="capacity",
                label="Capacity, mAh",
                value=facts.capacity_mah or 1500.0,
                from_craft=facts.capacity_mah is not None,
            ),
            Box(name="current", label="Mean current, A", value=facts.current_a or 15.0, from_craft=facts.current_a is not None),
        ),
        work=_lasting,
        formula="t = 0.8 · capacity / current; C rate = current / capacity",
        source="Four fifths of the capacity: common practice, no source.",
    )


def _lasting(values: Mapping[str, float]) -> Answer:
    found = endurance(values["capacity"], values["current"])
    return Answer(
        headline=f"{found.seconds / 60:.1f} min to landing, {found.reserve_mah:.0f} mAh in reserve",
        rows=(("reserve", f"{found.reserve_s:.0f} s at this current"), ("load", f"{found.c_rate:.1f} C")),
    )


def _radio(heard: Heard | None) -> Sheet:
    return Sheet(
        key="radio",
        title="Link quality over distance",
        boxes=(
            Box(name="signal", label="Signal as measured, dBm", value=-70.0),
            Box(name="at", label="At a distance of, m", value=200.0),
            Box(name="limit", label="Limit of the receiver, dBm", value=-98.0),
            Box(name="spare", label="Reserve, dB", value=10.0),
            Box(name="mhz", label="Frequency, MHz", value=2400.0),
        ),
        work=partial(_reached, heard=heard),
        formula="loss = 32.4 + 20·log f[MHz] + 20·log d[km]; 20 dB for ten times the distance",
        source="ITU-R Recommendation P.525-4, 2019. Ground, trees and the craft only add loss.",
    )


def _reached(values: Mapping[str, float], *, heard: Heard | None) -> Answer:
    reach = distance_at_limit(
        signal_dbm=values["signal"], at_m=values["at"], limit_dbm=values["limit"], reserve_db=values["spare"]
    )
    loss = free_space_loss_db(values["at"], values["mhz"])
    measured = [_said(heard, band) for band in heard.bands] if heard else []
    return Answer(
        headline=f"Turn back at {reach:.0f} m: there the reserve of {values['spare']:g} dB is used up",
        rows=(("free-space loss where it was measured", f"{loss:.0f} dB"), *measured),
        notes=("Measure with the craft turned both ways: its own shadow often costs 10 dB.",),
    )


def _said(heard: Heard, band: LinkBand) -> tuple[str, str]:
    where = f"flight {heard.flight.number}, {band.from_m:.0f} to {band.to_m:.0f} m"
    return where, f"{band.median:.0%}, 95 % of the time {band.worst:.0%} or more"


def _filter(craft: Craft) -> Sheet:
    return Sheet(
        key="filter",
        title="Power filter of coil and capacitor",
        boxes=(
            Box(name="coil_uh", label="Coil, µH", value=22.0),
            Box(name="cap_uf", label="Capacitor, µF", value=470.0),
            Box(name="coil_mohm", label="Coil resistance, mΩ", value=50.0),
            Box(name="cap_mohm", label="Capacitor resistance, mΩ", value=150.0),
            Box(name="load", label="Load, A", value=1.0),
            Box(name="supply", label="Supply, V", value=round(_CELL_V * craft.cells, 1), from_craft=True),
            Box(name="noise_khz", label="Noise frequency, kHz", value=20.0),
            Box(name="ripple_mv", label="Ripple now, mV", value=300.0),
            Box(name="rated", label="Coil is rated for, A", value=3.0),
        ),
        work=_filtered,
        formula="f = 1 / (2π·√(L·C)); gain of the divider Z / (Z + r + sL)",
        source="Horowitz, Hill, The Art of Electronics, 3rd ed. 2015, sections 1.7 and 9.5. Standard values: IEC 60063.",
    )


def _filtered(values: Mapping[str, float]) -> Answer:
    shared: dict[str, Any] = {
        "coil_ohm": values["coil_mohm"] / 1000,
        "capacitor_ohm": values["cap_mohm"] / 1000,
        "load_a": values["load"],
        "supply_v": values["supply"],
        "noise_hz": 1000 * values["noise_khz"],
    }
    found = power_filter(
        inductance_h=values["coil_uh"] * 1e-6,
        capacitance_f=values["cap_uf"] * 1e-6,
        ripple_v=values["ripple_mv"] / 1000,
        coil_rated_a=values["rated"],
        **shared,
    )
    picks = pick_parts(wanted_db=_WANTED_DB, **shared)
    change = f"falls by {-found.noise_db:.0f} dB" if found.noise_db < 0 else f"grows by {found.noise_db:.0f} dB"
    pairs = [
        (round(math.log10(hz), 4), round(gain, 2))
        for hz, gain in zip(found.frequency_hz.tolist(), found.gain_db.tolist(), strict=True)
        if _SPAN_HZ[0] <= hz <= _SPAN_HZ[1]
    ]
    x: list[float | None] = [hz for hz, _ in pairs]
    y: list[float | None] = [gain for _, gain in pairs]
    return Answer(
        headline=f"Noise at {values['noise_khz']:g} kHz {change}, "
        f"from {values['ripple_mv']:g} to {1000 * (found.ripple_v or 0):.3g} mV",
        rows=(
            ("cutoff", f"{found.cutoff_hz:.0f} Hz"),
            ("damping", f"Q {found.q:.2f}, highest gain {found.peak_db:.1f} dB"),
            (
                "coil",
                f"{found.drop_v * 1000:.0f} mV lost, {found.coil_w * 1000:.0f} mW, about {found.coil_warmer_k:.0f} K warmer",
            ),
            ("inrush", f"at most {found.inrush_a:.0f} A when plugged in"),
            (f"parts for {_WANTED_DB:.0f} dB, smallest first", "; ".join(map(_pair, picks)) or "none of the standard values"),
        ),
        notes=(
            *(f"{note}." for note in found.notes),
            "Prove it: provoke the old fault, full throttle late in the pack, before and after. A repair slip keeps both.",
        ),
        chart=Chart(
            title="Gain of the filter",
            x=Axis(label="frequency", unit="Hz", is_log=True),
            y=Axis(label="gain", unit="dB"),
            lines=[Line(label="gain", x=x, y=y)],
        ),
    )


def _pair(pick: Pick) -> str:
    return f"{pick.inductance_h * 1e6:.3g} µH and {pick.capacitance_f * 1e6:.4g} µF ({pick.noise_db:.0f} dB)"
