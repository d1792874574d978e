"""Sums about control and flying: delay, sticks, propeller, range, flights that a comparison needs."""

import math
from collections.abc import Mapping

from nembrit.core.errors import CoreError, InputError
from nembrit.core.filters.stated import stated_delay_s
from nembrit.core.sums.energy import distance_home, range_out
from nembrit.core.sums.rotor import rotor
from nembrit.core.sums.sticks import SKILLS, stick_curve
from nembrit.core.sums.timing import delay_budget
from nembrit.core.trials.chances import flights_to_find
from nembrit.core.trials.metrics import metric_label
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.hangar.models import Craft
from nembrit.web.sums.facts import Facts
from nembrit.web.sums.sheet import Answer, Box, Sheet

_MOST_FLIGHTS = 60


def flying_sheets(craft: Craft, facts: Facts) -> list[Sheet]:
    """Those that this kind of craft asks for."""
    is_plane = craft.kind == Craft.Kind.FIXED_WING
    return [
        *([_range(facts)] if is_plane else [_timing(facts), _sticks(facts)]),
        _rotor(craft),
        _flights(facts),
    ]


def _timing(facts: Facts) -> Sheet:
    own = facts.controller
    filters_s = None
    if own is not None:
        try:
            filters_s = stated_delay_s((*own.chip, *own.gyro), own.loop_rate_hz)
        except CoreError:
            filters_s = None
    rate = own.loop_rate_hz if own else 4000.0
    return Sheet(
        key="timing",
        title="Delay of the control loop",
        boxes=(
            Box(
                name="output_hz",
                label="Motor updates, Hz",
                value=(own.output_rate_hz if own else None) or rate,
                from_craft=own is not None,
            ),
            Box(name="loop_hz", label="Control loop, Hz", value=rate, from_craft=own is not None),
            Box(name="gyro_hz", label="Gyro samples, Hz", value=rate),
            Box(name="filters_ms", label="Gyro filters, ms", value=1000 * (filters_s or 0.002), from_craft=filters_s is not None),
            Box(
                name="motor_ms",
                label="Motor lag, ms",
                value=1000 * (facts.motor_lag_s or 0.03),
                from_craft=facts.motor_lag_s is not None,
            ),
            Box(name="send_ms", label="Sending one command, ms", value=0.0),
        ),
        work=_timed,
        formula="sensor T/2 + filters + one loop + half a command frame + sending + motor lag",
        source="Zero-order hold: Franklin, Powell, Workman, Digital Control of Dynamic Systems, 3rd ed. 1998, section 4.3.",
    )


def _timed(values: Mapping[str, float]) -> Answer:
    found = delay_budget(
        gyro_rate_hz=values["gyro_hz"],
        loop_rate_hz=values["loop_hz"],
        output_rate_hz=values["output_hz"],
        filters_s=values["filters_ms"] / 1000,
        motor_lag_s=values["motor_ms"] / 1000,
        frame_send_s=values["send_ms"] / 1000,
    )
    parts = (
        ("gyro sample", found.sensor_s),
        ("filters", found.filters_s),
        ("computing", found.computing_s),
        ("command frame", found.command_s),
        ("motor and propeller", found.motor_s),
    )
    is_enough = values["output_hz"] >= found.felt_rate_hz
    said = "A faster rate would not be felt" if is_enough else f"A faster rate is felt up to {found.felt_rate_hz:.0f} Hz"
    return Answer(
        headline=f"{1000 * found.total_s:.1f} ms in all. {said}",
        rows=tuple((name, f"{1000 * one:.2f} ms, {100 * one / found.total_s:.0f} %") for name, one in parts),
        notes=("“Felt” means that half a frame is 5 % of all other delay or more (our own rule, no source).",),
    )


def _sticks(facts: Facts) -> Sheet:
    rates = facts.controller.stick_rates.get("roll") if facts.controller else None
    points = dict(rates) if rates else {}
    return Sheet(
        key="sticks",
        title="Stick rates",
        boxes=(
            Box(name="full_dps", label="Rate at full stick, deg/s", value=points.get(1.0, 600.0), from_craft=1.0 in points),
            Box(name="half_dps", label="Rate at half stick, deg/s", value=points.get(0.5, 180.0), from_craft=0.5 in points),
        ),
        work=_stick,
        formula="rate = a·s + b·s³, with a = (8·half − full) / 3 and b = full − a",
        source="Rates by skill and the cubic curve: common practice, no source.",
    )


def _stick(values: Mapping[str, float]) -> Answer:
    found = stick_curve(values["full_dps"], values["half_dps"])
    skills = ", ".join(f"{name} {low:.0f}" + (f" to {high:.0f}" if high > low else "") for name, (low, high) in SKILLS.items())
    line = Line(label="rate", x=[round(100 * float(s), 1) for s in found.stick], y=[round(float(v), 1) for v in found.rate_dps])
    return Answer(
        headline=f"{found.word.capitalize()} around the centre: {found.centre_dps_per_pct:.1f} deg/s per percent of stick",
        rows=(("full stick", f"{values['full_dps']:.0f} deg/s, rates of: {found.skill}"), ("usual rates, deg/s", skills)),
        chart=Chart(
            title="Rate over stick",
            x=Axis(label="stick", unit="%", low=0, high=100),
            y=Axis(label="rate", unit="deg/s"),
            lines=[line],
        ),
    )


def _rotor(craft: Craft) -> Sheet:
    return Sheet(
        key="rotor",
        title="Propeller: tip speed, blade pass and notches",
        boxes=(
            Box(name="rpm", label="Turns per minute", value=9000.0 if craft.kind == Craft.Kind.FIXED_WING else 15000.0),
            Box(name="diameter_in", label="Diameter, in", value=craft.propeller_diameter_in, from_craft=True),
            Box(name="pitch_in", label="Pitch, in", value=craft.propeller_pitch_in, from_craft=True),
            Box(name="blades", label="Blades", value=craft.propeller_blades, from_craft=True),
        ),
        work=_turned,
        formula="tip speed π·D·n; blade pass n·blades; pitch speed n·pitch",
        source="Geometry; speed of sound 340.3 m/s at 15 °C: ICAO Standard Atmosphere, Doc 7488.",
    )


def _turned(values: Mapping[str, float]) -> Answer:
    if not float(values["blades"]).is_integer():
        raise InputError("blades should be a whole number")
    found = rotor(diameter_in=values["diameter_in"], pitch_in=values["pitch_in"], blades=int(values["blades"]), rpm=values["rpm"])
    notches = ", ".join(f"{hz:.0f} Hz ({name})" for name, hz in found.notches_hz)
    loud = (f"Above Mach 0.7 the blades get loud and lose thrust: this is {found.tip_mach:.2f}.",) if found.tip_mach > 0.7 else ()
    return Answer(
        headline=f"Blade pass at {found.blade_pass_hz:.0f} Hz, tips at {found.tip_m_s:.0f} m/s",
        rows=(
            ("notches would sit at", notches),
            ("tip Mach number", f"{found.tip_mach:.2f}"),
            ("pitch speed", f"{found.pitch_m_s:.0f} m/s"),
        ),
        notes=loud,
    )


def _range(facts: Facts) -> Sheet:
    return Sheet(
        key="range",
        title="Range out and back, and the point of no return",
        boxes=(
            Box(
                name="airspeed",
                label="Airspeed, m/s",
                value=facts.airspeed_m_s or 15.0,
                from_craft=facts.airspeed_m_s is not None,
            ),
            Box(name="wind", label="Wind along the way, m/s", value=facts.wind_m_s or 0.0, from_craft=facts.wind_m_s is not None),
            Box(
                name="cruise_a",
                label="Current in cruise, A",
                value=facts.current_a or 6.0,
                from_craft=facts.current_a is not None,
            ),
            Box(
                name="usable",
                label="Charge to use, mAh",
                value=0.8 * (facts.capacity_mah or 2200.0),
                from_craft=facts.capacity_mah is not None,
            ),
        ),
        work=_ranged,
        formula="radius of action = T · v_out · v_back / (v_out + v_back)",
        source="Federal Aviation Administration, Flight Navigator Handbook, FAA-H-8083-18, 2011, chapter 4.",
    )


def _ranged(values: Mapping[str, float]) -> Answer:
    found = range_out(
        airspeed_m_s=values["airspeed"], wind_m_s=values["wind"], current_a=values["cruise_a"], usable_mah=values["usable"]
    )
    if found.out_and_back_m is None or found.against_wind_mah_km is None:
        return Answer(headline="Do not fly out downwind: against this wind it never comes home")
    half = distance_home(
        remaining_mah=values["usable"] / 2,
        current_a=values["cruise_a"],
        airspeed_m_s=values["airspeed"],
        headwind_m_s=values["wind"],
    )
    return Answer(
        headline=f"Turn back at {found.out_and_back_m / 1000:.1f} km at the latest",
        rows=(
            ("with the wind", f"{found.with_wind_mah_km:.0f} mAh per km"),
            ("against the wind", f"{found.against_wind_mah_km:.0f} mAh per km"),
            ("flying time", f"{found.seconds_left / 60:.1f} min"),
            ("home against the wind on half the charge", f"{(half or 0) / 1000:.1f} km"),
        ),
        notes=("Climbs, gusts and a cold pack use more. Stay in sight: local rules decide how far you may fly.",),
    )


def _flights(facts: Facts) -> Sheet:
    known = next(iter(facts.scatter.items()), None)
    said = (
        f"Scatter of this craft: {metric_label(known[0])}." if known else "No scatter of this craft is known yet: 10 % is usual."
    )
    return Sheet(
        key="flights",
        title="Flights per side that show a change",
        boxes=(
            Box(name="change_pct", label="Change to show, %", value=20.0),
            Box(
                name="scatter_pct",
                label="Scatter from flight to flight, %",
                value=100 * (known[1] if known else 0.10),
                from_craft=known is not None,
            ),
        ),
        work=_shown,
        formula="power of the exact permutation test on logarithms, one-sided, 80 % chance",
        source=f"{said} E. L. Lehmann, J. P. Romano, Testing Statistical Hypotheses, section 15.2.",
    )


def _shown(values: Mapping[str, float]) -> Answer:
    if not 0.5 <= values["change_pct"] <= 95 or not 0 <= values["scatter_pct"] <= 200:
        raise InputError("a change goes from 0.5 to 95 %, scatter from 0 to 200 %")
    effect = -math.log1p(-values["change_pct"] / 100)
    found = flights_to_find(effect, sd=values["scatter_pct"] / 100, most=_MOST_FLIGHTS)
    if found is None:
        return Answer(headline=f"More than {_MOST_FLIGHTS} flights per side: make flights more alike first")
    return Answer(
        headline=f"{found} flights per side show a fall of {values['change_pct']:g} %",
        notes=("Fresh packs, one card and calm air lower the scatter; half the scatter needs about a quarter of the flights.",),
    )
