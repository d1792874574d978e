"""What a plane's flight says: wind, trims, creep, weaving, automatic gains."""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TypeVar

import numpy as np

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError, NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray
from nembrit.core.wing.checks.failsafe import was_lost_at
from nembrit.core.wing.creep import Creep, creep_of, hands_off_parts
from nembrit.core.wing.gainflight import GainFlight, gain_flight
from nembrit.core.wing.lurch import MANUAL_WORDS, Lurch, lurches_of
from nembrit.core.wing.navigation import Navigation, navigation_of
from nembrit.core.wing.path import Path, path_of
from nembrit.core.wing.pull import Pull, pull_of
from nembrit.core.wing.rates import RateResponse, rate_response
from nembrit.core.wing.returns import RETURN_HZ, Return, returns_of
from nembrit.core.wing.speeds import BySpeed, by_speed
from nembrit.core.wing.track import RATE_HZ, Track, stretches, track_of
from nembrit.core.wing.trim import Trim, deflections, trim_of
from nembrit.core.wing.weaving import Weaving, weaving_of
from nembrit.core.wing.wind import Wind, estimate_wind

_SPEED_STRETCH_S, _TWO_SPEEDS = 20.0, 1.2
Answer = TypeVar("Answer")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Wing:
    """Each part, or None with the reason under its name."""

    wind: Wind | None
    trim: Trim | None
    creep: Creep | None
    weaving: Weaving | None
    speeds: BySpeed | None = None
    gain_flight: dict[str, GainFlight] = field(default_factory=dict)
    rate_response: dict[str, RateResponse] = field(default_factory=dict)
    lurches: tuple[Lurch, ...] = ()
    navigation: Navigation | None = None
    returns: tuple[Return, ...] = ()
    home_deg: tuple[float, float] | None = None
    home_is_known: bool = False
    reasons: dict[str, str] = field(default_factory=dict)

    @property
    def pull(self) -> Pull | None:
        return pull_of(self.weaving, self.creep, self.speeds)

    @property
    def is_there(self) -> bool:
        """Whether anything could be told."""
        return any(
            (self.wind, self.trim, self.creep, self.weaving, self.gain_flight, self.navigation, self.returns, self.rate_response)
        )


def wing_of(flight: Flight) -> Wing:
    """Ask a plane's flight everything, once; what it cannot answer comes with what to log or to fly."""
    kept = flight.kept.get("wing")
    if not isinstance(kept, Wing):
        flight.kept["wing"] = kept = _wing_of(flight)
    return kept


def _wing_of(flight: Flight) -> Wing:
    recording = flight.recording
    track = track_of(recording)
    reasons: dict[str, str] = {}

    def asked(name: str, ask: Callable[[], Answer]) -> Answer | None:
        try:
            return ask()
        except CoreError as error:
            reasons[name] = str(error)
            return None

    doubted = {role.split(".")[0]: reason for role, reason in flight.impossible.items()}
    wind = asked("wind", lambda: _wind(track))
    creep = asked("creep", lambda: creep_of(track, wind))
    speeds = by_speed(_by_stretch(track, wind))
    cause = speeds.verdict if speeds is not None else "cannot tell"
    holds = {axis: asked(f"gain_flight.{axis}", partial(gain_flight, recording, axis)) for axis in ("roll", "pitch")}
    moved = deflections(recording, flight.craft.surfaces)
    rates = {
        axis: asked(f"rate_response.{axis}", partial(_rates, recording, axis, moved.get(axis))) for axis in ("roll", "pitch")
    }
    return Wing(
        wind=wind, creep=creep, speeds=speeds,
        trim=None if "servo" in doubted else asked("trim", lambda: trim_of(recording, flight.craft.surfaces)),
        weaving=asked("weaving", lambda: weaving_of(track, wind, told_by_speed=cause)),
        gain_flight={axis: found for axis, found in holds.items() if found is not None},
        rate_response={axis: found for axis, found in rates.items() if found is not None},
        lurches=asked("lurch", lambda: lurches_of(recording)) or (),
        navigation=asked("navigation", lambda: navigation_of(track, wind)),
        returns=asked("return", lambda: _returns(recording, wind)) or (),
        home_deg=track.home_deg, home_is_known=track.home_is_known, reasons=reasons | _doubts(doubted),
    )  # fmt: skip


_RESTS_ON = {
    "trim": ("servo",), "wind": ("ground_speed", "course", "airspeed"), "navigation": ("cross_track", "course_wanted"),
    "return": ("altitude", "latitude", "longitude"), "rate_response.roll": ("gyro", "setpoint"),
    "rate_response.pitch": ("gyro", "setpoint"), "creep": ("ground_speed", "course"),
}  # fmt: skip


def _doubts(doubted: dict[str, str]) -> dict[str, str]:
    """Why parts are missing whose channels had impossible numbers."""
    return {name: doubted[family] for name, families in _RESTS_ON.items() for family in families if family in doubted}


def _rates(recording: Recording, axis: str, deflection: FloatArray | None) -> RateResponse:
    wanted, gyro = recording.channels.get(f"setpoint.{axis}"), recording.channels.get(f"gyro.{axis}")
    if wanted is None or gyro is None:
        raise NotEnoughData(f"wanted and achieved rate of {axis} are needed: switch their logging on")
    usable = np.ones(wanted.size, dtype=bool)
    if "mode" in recording.channels:
        names = recording.labels.get("mode", ())
        manual = [number for number, name in enumerate(names) if any(word in name.lower() for word in MANUAL_WORDS)]
        usable = ~np.isin(recording.channels["mode"], manual)
    return rate_response(
        axis, wanted, gyro, sample_rate_hz=recording.sample_rate_hz, usable=usable, deflection=deflection,
        airspeed_m_s=recording.channels.get("airspeed"),
        instruments=[recording.channels[role] for role in (f"attitude_wanted.{axis}", f"stick.{axis}") if recording.has(role)],
    )  # fmt: skip


def _returns(recording: Recording, wind: Wind | None) -> tuple[Return, ...]:
    """Returns that the pilot asked for: one that a lost link began is judged by the check of the failsafe."""
    found = returns_of(track_of(recording, at_hz=RETURN_HZ), wind)
    return tuple(one for one in found if not was_lost_at(recording, one.start_s))


def _wind(track: Track) -> Wind:
    if track.north_m_s is None or track.east_m_s is None:
        raise NotEnoughData("no ground speed and course, and no positions: switch on logging of the position")
    return estimate_wind(track.north_m_s, track.east_m_s, rate_hz=RATE_HZ, airspeed_m_s=track.airspeed_m_s)


def _by_stretch(track: Track, wind: Wind | None) -> list[Creep]:
    """Creep of every long hands-off stretch by itself, one that was flown at two speeds in two, for what these tell."""
    found = []
    for part in _by_speed(track, hands_off_parts(track, least_s=_SPEED_STRETCH_S)):
        assert track.hands_off is not None
        alone = np.zeros(track.hands_off.size, dtype=bool)
        alone[part] = True
        try:
            found.append(creep_of(replace(track, hands_off=track.hands_off & alone), wind))
        except CoreError:
            continue
    return found


def _by_speed(track: Track, parts: list[slice]) -> list[slice]:
    """The same stretches, cut where they go over from slow to fast or back."""
    if track.airspeed_m_s is None:
        return parts
    found = []
    for part in parts:
        speed = track.airspeed_m_s[part]
        low, high = np.nanpercentile(speed, (10, 90))
        if not high > _TWO_SPEEDS * low:
            found.append(part)
            continue
        middle = math.sqrt(low * high)
        for side in (speed < 0.95 * middle, speed > 1.05 * middle):
            own = stretches(side, round(_SPEED_STRETCH_S * RATE_HZ))
            found += [slice(part.start + one.start, part.start + one.stop) for one in own]
    return found


def _path_of(flight: Flight) -> Path | None:
    try:
        return path_of(flight.recording, flight.craft.surfaces)
    except CoreError:
        return None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FlightPath:
    """The path of a plane's flight, where there is one."""

    path: Path | None


PATH = Analysis(
    key="path", version=1, result=FlightPath, run=lambda flight: FlightPath(path=_path_of(flight)), in_words="the path flown"
)
WING = Analysis(key="wing", version=8, result=Wing, run=wing_of, in_words="trims, wind and weaving")
