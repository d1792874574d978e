"""Kept numbers of planes: what the stand-in flies, what the wing desk makes of it, and its rules as inputs move."""

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.records.log import Recording
from nembrit.core.setup.autopilot import Autopilot
from nembrit.core.setup.cards import WING_CARDS
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.plane.airframe import AIRFRAMES, PlaneFaults, PlaneWorld, airframe_of, cruise_m_s, sound_gains
from nembrit.core.simulate.plane.flight import PlaneFlight, fly_plane
from nembrit.core.wing import cure, errors, gainruns, sight, terrain
from nembrit.core.wing.creep import Creep
from nembrit.core.wing.lurch import Lurch
from nembrit.core.wing.mixing import joined, split
from nembrit.core.wing.navigation import circle_through
from nembrit.core.wing.numbers import wing_errors, wing_numbers
from nembrit.core.wing.obstacles import Obstacle, clearances, far_m, obstacles_from_geojson, obstacles_to_geojson
from nembrit.core.wing.pull import pull_of
from nembrit.core.wing.rates import forward_word, rate_response
from nembrit.core.wing.returnrule import ReturnRule, judge_return, return_passed
from nembrit.core.wing.speeds import by_speed
from nembrit.core.wing.track import stretches, unwrapped_deg
from nembrit.core.wing.trimstep import Shown, trim_step
from nembrit.core.wing.wind import direction_word, estimate_wind
from tests.core.kept.sweeps import told
from tests.core.wing.planes import SURFACES as V_TAIL
from tests.core.wing.planes import followed

_HOME = (51.5, -1.5)
_SURFACES = {
    "v_tail": V_TAIL,
    "t_tail": (
        Surface(servo=1, role="aileron", direction=1, centre_us=1520.0), Surface(servo=2, role="aileron", direction=-1),
        Surface(servo=3, role="elevator", direction=1, throw_us=300.0), Surface(servo=4, role="rudder", direction=-1),
    ),
    "flying_wing": (
        Surface(servo=1, role="elevon_left", direction=1), Surface(servo=2, role="elevon_right", direction=-1),
    ),
}  # fmt: skip
_CARDS = {card.key: card for card in WING_CARDS}
# plane, card, rate of the log [Hz], wind [m/s], faults, numbers of its controller
_FLIGHTS: dict[str, tuple[str, str, float, float, dict[str, Any], Autopilot | None]] = {
    "trim": ("v_tail", "wing_trim", 50.0, 1.0, {"neutral_us": {"1": 1530.0, "2": 1512.0}, "off_us": {"pitch": 14.0}}, None),
    "speeds": ("t_tail", "wing_two_speeds", 25.0, 0.5, {"off_us": {"yaw": 30.0}, "pitot_offset_m_s": 0.8}, None),
    "legs": ("v_tail", "wing_tracks", 50.0, 4.0, {"tilt_deg": 2.0}, None),
    "weaves": ("t_tail", "wing_tracks", 10.0, 2.0, {"tight": 6.0, "thrust_aside_m": 0.01}, None),
    "gains": ("flying_wing", "wing_gains", 100.0, 1.0, {}, Autopilot(forward={"roll": 0.7, "pitch": 1.3})),
    "return": ("v_tail", "wing_return", 50.0, 5.0, {"turns_early_m": 12.0, "climbs_over_m": 9.0}, None),
    "lands": ("flying_wing", "wing_return", 50.0, 2.0, {}, Autopilot(lands=True, return_height_m=45.0, circle_m=40.0)),
}


@lru_cache
def _flown(name: str) -> PlaneFlight:
    plane, card, log_hz, wind_m_s, faults, numbers = _FLIGHTS[name]
    world = PlaneWorld(seed=41, log_hz=log_hz, wind_m_s=wind_m_s, faults=PlaneFaults(**faults))
    return fly_plane(_SURFACES[plane], _CARDS[card], world, autopilot=numbers)


@lru_cache
def _recording(name: str) -> Recording:
    flight = _flown(name)
    return Recording.of(flight.channels, sample_rate_hz=flight.log_hz, modes=flight.modes)


@lru_cache
def _told(name: str) -> Any:
    facts = CraftFacts(kind="fixed_wing", surfaces=_SURFACES[_FLIGHTS[name][0]])
    return analyse(Flight(_recording(name), craft=facts), only=("wing", "path"))


def plane_flights() -> Any:
    found: dict[str, Any] = {}
    for name in _FLIGHTS:
        flight = _flown(name)
        # quarters by themselves, so that a change of one phase moves a number by more than another adds up
        found[name] = {role: np.array_split(values, 4) for role, values in flight.channels.items()}
        found[name]["modes"] = {mode: flight.modes.count(mode) for mode in sorted(set(flight.modes))}
    for kind, own in AIRFRAMES.items():
        speed = cruise_m_s(own)
        found[kind] = [airframe_of(_SURFACES[kind]), speed, [sound_gains(own, factor * speed) for factor in (0.7, 1.0, 1.4)]]
    for wind_m_s, log_hz in ((12.0, 50.0), (12.1, 50.0), (-0.1, 50.0), (1.0, 20.0)):
        found[f"world {wind_m_s} {log_hz}"] = told(
            lambda w=wind_m_s, hz=log_hz: PlaneWorld(seed=1, wind_m_s=w, log_hz=hz).wind_m_s
        )
    found["no plane"] = told(lambda: airframe_of(V_TAIL[:2]))
    return found


def wing_desk() -> Any:
    """What planes' flights answer, also where one thing after the other is not logged, and what kinematics alone fly."""
    found: dict[str, Any] = {name: _told(name) for name in _FLIGHTS}
    facts = CraftFacts(kind="fixed_wing", surfaces=V_TAIL)
    for lacking in ("airspeed", "course", "latitude", "stick", "attitude.", "servo", "altitude", "mode", "cross_track"):
        whole = _recording("legs" if lacking != "altitude" else "return")
        kept = {role: values for role, values in whole.channels.items() if not role.startswith(lacking)}
        left = Recording.of(kept, sample_rate_hz=whole.sample_rate_hz)
        left = left if lacking == "mode" else replace(left, channels=kept | {"mode": whole.channels["mode"]}, labels=whole.labels)
        found[f"without {lacking}"] = analyse(Flight(left, craft=facts), only=("wing",)).wing
    for name, given in {
        "straight": {}, "pulled": {"pull_deg_s": 1.5}, "tilted": {"tilt_deg": 2.5, "wind": (3.0, 1.0)}, "swings": {"gain": 6.0},
        "three legs": {"n_legs": 3, "pull_deg_s": 0.6}, "short legs": {"leg_s": 14.0},
    }.items():  # fmt: skip
        recording = followed(7, **given)
        found[f"followed, {name}"] = analyse(Flight(recording, craft=facts), only=("wing",)).wing
    return found


def _creep(rate: float, speed: float | None, error: float = 0.1) -> Creep:
    return Creep(rate_deg_s=rate, error_deg_s=error, seconds=40.0, blocks=10, airspeed_m_s=speed, wind_removed=True)


def wing_rules() -> Any:
    """Rules of trims, gains and returns at and beside their edges."""
    found: dict[str, Any] = {}
    found["yaw"] = [
        cure.yaw_step([cure.YawPoint(*one, 0.1) for one in history])
        for history in (
            (), ((0.0, 1.0),), ((0.0, -1.0),), ((0.0, 0.0),), ((0.0, -2.0), (15.0, -1.0)), ((0.0, -2.0), (4.9, -1.0)),
            ((0.0, -2.0), (5.1, -1.0)), ((0.0, -2.0), (15.0, -1.9)), ((0.0, -2.0), (15.0, -1.99)), ((0.0, 1.0), (15.0, -1.0)),
            ((0.0, -3.0), (15.0, -1.0), (30.0, 0.5)), ((30.0, 0.5), (10.0, -0.6)), ((0.0, 4.0), (20.0, 4.2)),
        )
    ]  # fmt: skip
    found["yaw trims"] = [cure.yaw_trim_of(surfaces) for surfaces in (*_SURFACES.values(), V_TAIL[:3])]
    off = [replace(one, centre_us=1500.0 + 9 * one.servo) for one in V_TAIL]
    found["yaw trims"] += [cure.yaw_trim_of(off), cure.yaw_trim_of([replace(_SURFACES["t_tail"][3], centre_us=1530.0)])]
    for name in ("trim", "speeds", "gains"):
        surfaces, wing = _SURFACES[_FLIGHTS[name][0]], _told(name).wing
        found[f"centres {name}"] = [
            cure.new_centres(surfaces, cure.surely_held(wing.trim), yaw) for yaw in (0.0, 4.9, 5.0, -9.9, 10.0, 31.0)
        ]
        found[f"checked {name}"] = [
            cure.trim_check(wing.trim, lurches, pull)
            for lurches in ((), wing.lurches, *((_lurch(rate),) for rate in (7.9, 8.0, 8.1, -9.0)))
            for pull in (None, wing.pull, _told("legs").wing.pull)
        ]
        found[f"numbers {name}"] = [
            wing_numbers(wing.trim, wing.lurches, wing.weaving, wing.navigation, wing.rate_response, wing.pull),
            wing_errors(wing.trim, wing.weaving, wing.navigation, wing.pull),
        ]
        found[f"step {name}"] = [
            trim_step(surfaces, [Shown(number=1, trim=wing.trim, pull=wing.pull)], [cure.YawPoint(0.0, 1.0, 0.1)], cause=cause)
            for cause in ("cannot tell", "trim", "horizon", "both")
        ]
    legs = _told("legs").wing
    found["numbers legs"] = wing_numbers(None, (_lurch(0.2), _lurch(5.0)), legs.weaving, legs.navigation, {}, legs.pull)
    found["checked nothing"] = cure.trim_check(None, (), None)
    found["loosened"] = [
        cure.loosened({"a": now, "b": 1.0}, [{"a": 5.0}, {"a": 5.1}, {"c": 9.0}]) for now in (4.9, 5.0, 5.05, 6.0)
    ]
    pairs = (
        (1, 1.6, 0.1),
        (1, 0.6, 0.1),
        (-1, -1.4, 0.1),
        (1, -1, 0.1),
        (1, 1.5, 0.5),
        (1, 1.5, 0.51),
        (0, 1, 0.1),
        (0.2, 0.3, 0),
    )
    for slow, fast, error in pairs:
        found[f"speeds {slow} {fast} {error}"] = [
            by_speed([_creep(slow, 12.0, error), _creep(fast, speed, error)]) for speed in (12.0, 13.0, 14.0, 15.0, 20.0, None)
        ]
        found[f"pulls {slow} {error}"] = pull_of(None, _creep(slow, 12.0, error), None)
    found["interval"] = _creep(1.0, 14.0, 0.3).interval_deg_s
    runs = [_told("gains").wing.gain_flight.get(axis) for axis in ("roll", "pitch")]
    own = next(run for run in runs if run is not None)
    for values in ((50.0,), (50.0, 56.0), (50.0, 56.5), (50.0, 60.0, 55.0), (-1.0, 1.0)):
        made = [replace(own, gains=(value,), verdict="settled") for value in values]
        found[f"runs {values}"] = _with_words(gainruns.gain_runs(made))
    found["runs of none"] = _with_words(gainruns.gain_runs([replace(own, verdict="too_short"), replace(own, gains=())]))
    found["saved"] = [
        gainruns.is_saved(found_at, saved)
        for saved in (9.9, 10.0, 60.0, -60.0, 0.5)
        for found_at in (saved, saved + 0.011, saved + 0.19, saved + 0.21, saved + 0.5, saved + 0.52, saved + 1.1, saved + 1.3)
    ]
    found["less P"] = gainruns.less_p(40.0)
    found["words"] = [
        direction_word(angle) for angle in (0.0, 11.0, 12.0, 22.4, 22.6, 90.0, 200.0, 337.4, 337.6, 359.9, 371.0, -30.0)
    ]
    found["forward"] = [forward_word((value, (value - 0.06, value + 0.06))) for value in np.arange(0.7, 1.35, 0.04).tolist()]
    return found


def _lurch(rate: float) -> Lurch:
    (own, *_) = _told("trim").wing.lurches
    return replace(own, rates_dps={"roll": rate, "pitch": rate / 3})


def _with_words(runs: gainruns.GainRuns | None) -> Any:
    return None if runs is None else [runs, runs.agrees, runs.in_words]


def wing_sums() -> Any:
    """Errors, winds, circles, rates, heights and shapes from made-up numbers."""
    rng = np.random.default_rng(8)
    found: dict[str, Any] = {}
    red = np.cumsum(rng.normal(0, 1, 900)) * 0.05 + rng.normal(0, 1, 900)
    for n in (2, 3, 4, 40, 900):
        found[f"errors {n}"] = [errors.andrews_bandwidth(red[:n]), errors.hac_error(red[:n])]
        found[f"errors {n}"] += [errors.hac_error(red[:n], lags=lags) for lags in (0, 1, 30)]
        found[f"errors {n}"] += [errors.block_error(red[:n], block) for block in (0, 1, 7, 300, 301)]
    found["combined"] = [
        errors.combined(np.array(values), np.array([0.1, 0.2, 0.15])[: len(values)])
        for values in ((1.0,), (1.0, 1.05, 0.98), (1.0, 2.0, 3.0))
    ]
    t_s = np.arange(2400) / 10
    for airspeed in (12.0, 15.0):
        for turned in (360.0, 200.0, 90.0, 20.0):
            heading = np.radians(turned * t_s / t_s[-1])
            north = airspeed * np.cos(heading) + 3.0 + rng.normal(0, 0.3, t_s.size)
            east = airspeed * np.sin(heading) - 1.5 + rng.normal(0, 0.3, t_s.size)
            for known in (None, np.full(t_s.size, airspeed) + rng.normal(0, 0.4, t_s.size)):
                found[f"wind {airspeed} {turned} {known is None}"] = told(
                    lambda a=north, b=east, c=known: estimate_wind(a, b, rate_hz=10.0, airspeed_m_s=c)
                )
    angle = np.linspace(0, 5, 80)
    found["circles"] = [
        circle_through(60 * np.cos(angle[:n]) + 10, 60 * np.sin(angle[:n]) - 20 + rng.normal(0, spread, n))
        for n, spread in ((80, 0.0), (80, 3.0), (30, 1.0))
    ]
    found["unwrapped"] = unwrapped_deg(np.array([350.0, 10.0, np.nan, 40.0, 300.0, 200.0, 20.0]))
    mask = np.array([1, 1, 0, 1, 1, 1, 0, 0, 1], bool)
    found["stretches"] = [[[part.start, part.stop] for part in stretches(mask, least)] for least in (1, 2, 3, 4)]
    found["mixed"] = [[split(12.0, -5.0, pair), joined(3.0, 8.0, pair)] for pair in ("v_tail", "a_tail", "elevons")]
    for axis, rate_hz in (("roll", 50.0), ("pitch", 100.0), ("roll", 39.0)):
        found[f"rates {axis} {rate_hz}"] = told(lambda axis=axis, hz=rate_hz: _rates(axis, hz))
    found.update(_heights())
    found.update(_shapes())
    return found


def _rates(axis: str, rate_hz: float) -> Any:
    rng = np.random.default_rng(3)
    n = int(60 * rate_hz)
    wanted = np.repeat(rng.normal(0, 40, n // int(rate_hz)), int(rate_hz))[:n]
    rate = np.zeros(wanted.size)
    for k in range(6, wanted.size):
        rate[k] = rate[k - 1] + (wanted[k - 6] - rate[k - 1]) / (0.09 * rate_hz)
    speed = 15 + 2 * np.sin(np.arange(wanted.size) / rate_hz / 6)
    moved = 1.2 * wanted / 300.0 * 15 / speed
    usable = np.ones(wanted.size, bool)
    usable[: int(8 * rate_hz)] = False
    noisy = rate + rng.normal(0, 2, rate.size)
    return rate_response(
        axis,
        wanted,
        noisy,
        sample_rate_hz=rate_hz,
        usable=usable,
        deflection=moved,
        airspeed_m_s=speed,
        instruments=[wanted],
    )


def _heights() -> dict[str, Any]:
    distance = np.linspace(0, 4000, 41)
    ground = 80 + 30 * np.sin(distance / 500) ** 2 + distance / 200
    found: dict[str, Any] = {"rays": [sight.fresnel_m(900.0, 2500.0, frequency_mhz=5800.0), sight.bulge_m(900.0, 2500.0)]}
    for antenna_m, frequency_mhz in ((2.0, 2400.0), (10.0, 868.0), (501.0, 900.0), (2.0, 9.0)):
        needed = told(lambda a=antenna_m, f=frequency_mhz: sight.heights_needed(distance, ground, antenna_m=a, frequency_mhz=f))
        found[f"needed {antenna_m} {frequency_mhz}"] = needed
        if not isinstance(needed, str):
            found[f"reach {antenna_m}"] = [
                terrain.reach_at(h, distance, needed.clear_m, ground) for h in (-5.0, 10.0, 40.0, 60.0, 99.0)
            ]
    for bad in (distance[:2], distance[::-1], np.append(distance[:-1], distance[-2])):
        found[f"refused {bad.size} {bad[0]}"] = told(
            lambda bad=bad: sight.heights_needed(bad, ground[: bad.size], antenna_m=2.0, frequency_mhz=2400.0).clear_m
        )
    rows = "\n".join(" ".join(f"{100 + 3 * i + j * j}" for j in range(5)) for i in range(4))
    head = "ncols 5\nnrows 4\nxllcorner -1.52\nyllcorner 51.48\ncellsize 0.01\nNODATA_value 111\n"
    grid = terrain.grid_of(f"{head}{rows}\n".encode(), "grid")
    found["grid"] = grid
    for ends in (((51.487, -1.513), (51.512, -1.477)), ((51.487, -1.513), (51.4872, -1.513)), ((51.487, -1.513), (51.7, -1.3))):
        found[f"profile {ends}"] = told(lambda ends=ends: terrain.profile_between(grid, *ends))
    for change in (("nrows 4", "nrows 5"), ("cellsize 0.01", "cellsize 2"), ("ncols 5", "ncols five"), ("xllcorner -1.52\n", ""),
                   ("nrows 4", "nrows 4 4"), ("103", "x"), ("ncols 5", "ncols 1")):  # fmt: skip
        found[f"grid {change}"] = told(lambda change=change: terrain.grid_of(f"{head}{rows}".replace(*change).encode(), "g"))
    for name, content in (
        ("headed", b"d,h\n0,10\n5,12\n"),
        ("bare", b"0,10\n5,1e1\n"),
        ("one", b"a\n1\n"),
        ("words", b"a,b\nx,y\n"),
    ):
        found[f"columns {name}"] = told(lambda content=content: terrain.two_columns(content, "t"))
    found["is grid"] = [terrain.is_grid(head.encode()), terrain.is_grid(b"  NCOLS 3"), terrain.is_grid(b"0,1")]
    return found


def _shapes() -> dict[str, Any]:
    def placed(east: float, north: float) -> tuple[float, float]:
        return -1.5 + east / 69_300.0, 51.5 + north / 111_320.0

    things = [
        Obstacle(name="tree", kind="Point", places=(placed(14.0, 60.0),), height_m=18.0),
        Obstacle(name="far tree", kind="Point", places=(placed(17.0, 90.0),), height_m=18.0),
        Obstacle(name="wire", kind="LineString", places=(placed(-60, 150), placed(60, 170)), height_m=30.0),
        Obstacle(name="wood", kind="Polygon", places=(placed(-50, 220), placed(50, 220), placed(40, 300)), height_m=24.0),
    ]
    north = np.linspace(0, 400, 81)
    height = 60 - north / 20
    height[30:33] = np.nan
    passed = clearances(things, north, np.zeros(81), height, north / 12, home_deg=_HOME)
    found: dict[str, Any] = {
        "passed": passed, "nowhere": clearances(things, north[:1], north[:1], height[:1], north[:1], home_deg=_HOME),
        "away": [far_m(one, _HOME) for one in things],
        "document": obstacles_to_geojson(things),
    }  # fmt: skip
    for name in ("return", "lands"):
        for flown in _told(name).wing.returns:
            over = clearances(things, flown.north_m, flown.east_m, flown.height_m, flown.t_s, home_deg=_HOME)
            edges = {
                "turns_within_s": None if flown.turn_start_s is None else flown.turn_start_s - flown.start_s,
                "lowest_m": flown.lowest_m, "ends_within_m": flown.nearest_m, "overshoot_most_m": flown.height_overshoot_m,
            }  # fmt: skip
            given: list[dict[str, Any]] = [{}, {"ends": "land"}, {"ends": "either"}]
            given += [{key: at + step} for key, at in edges.items() if at is not None for step in (-0.5, 0.0, 0.5)]
            rules = [rule for rule in (told(lambda own=own: ReturnRule(**own)) for own in given) if not isinstance(rule, str)]
            judged = [judge_return(flown, kept, rule) for rule in rules for kept in (over, ())]
            found[f"judged {name} {flown.start_s:.0f}"] = [[judged], [return_passed(points) for points in judged]]
    for key, value in (
        ("turns_within_s", 0.9),
        ("lowest_m", 401.0),
        ("clear_by_m", 0.5),
        ("ends", "home"),
        ("ends_within_m", 4.0),
    ):
        found[f"rule {key}"] = told(lambda key=key, value=value: ReturnRule(**{key: value}))
    for text in (
        "{", "[]", '{"type":"FeatureCollection","features":[]}', '{"geometry":3}',
        '{"geometry":{"type":"Point","coordinates":[1,2]}}',
        '{"geometry":{"type":"Point","coordinates":[1]},"properties":{"ele":3}}',
        '{"geometry":{"type":"Point","coordinates":[181,2]},"properties":{"ele":3}}',
        '{"geometry":{"type":"Point","coordinates":[1,2]},"properties":{"ele":501,"name":"x"}}',
        '{"geometry":{"type":"MultiPoint","coordinates":[[1,2],[3,4]]},"properties":{"height":500}}',
        '{"geometry":{"type":"Polygon","coordinates":[[[0,0],[0,1],[1,1],[0,0]]]},"properties":{"height_m":5}}',
        '{"geometry":{"type":"LineString","coordinates":[[0,0]]},"properties":{"height_m":5}}',
    ):  # fmt: skip
        found[f"geojson {text:.90}"] = told(lambda text=text: obstacles_from_geojson(text))
    return found


PLANES: dict[str, Callable[[], Any]] = {
    "plane flights": plane_flights, "wing desk": wing_desk, "wing rules": wing_rules, "wing sums": wing_sums,
}  # fmt: skip
