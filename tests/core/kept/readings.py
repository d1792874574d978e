"""Kept numbers of how files are read: scales right at their edges, dialects, units, tracks, doubts, and many people's tables."""

import itertools
from collections.abc import Callable
from typing import Any

import numpy as np

from nembrit.core.formats.dialect import dialect_of
from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise import scales
from nembrit.core.recognise.names import guesses_of
from nembrit.core.recognise.propose import propose
from nembrit.core.records.log import Channel, FlightLog, Stream
from nembrit.core.records.quality import quality_notes
from nembrit.core.records.roles import quantity_of
from nembrit.core.records.track import track_of
from nembrit.core.records.units import SHOWN_UNITS, kinds_of, parse_scale, scale_text, split_header, unit_for
from nembrit.core.types import AXES
from tests.core.kept.sweeps import told
from tests.core.recognise.test_more_dialects import DIALECTS as MORE

_TOPS = tuple(
    float(top)
    for top in (
        "0.06 1.06 2.5 3.3 6 15 60 65 90 106 180 280 365 500 530 750 900 1000 1060 2000 2047 2048 2250 2300 3650 4095 4096 6500 "
        "16383 16384 32767 36500 65000 65535 80000 9e8 1.8e9"
    ).split()
)


def tight_scales() -> Any:
    """Every guess of a scale with ranges that end just below and just beyond each edge."""
    ramp = np.linspace(-1.0, 1.0, 201)
    shapes = {
        "both ways": ramp, "up": (ramp + 1) / 2, "middle": 0.7 + 0.3 * ramp, "high": 0.94 + 0.06 * ramp,
        "held": np.minimum(1.0, 1.5 * (ramp + 1) / 2), "touches": np.append(ramp[:-1] * 0.9, 1.0),
    }  # fmt: skip
    guesses: dict[str, Callable[[Any], scales.Scale]] = {"+".join(families): guess for families, guess in scales.RANGES}
    found: dict[str, Any] = {}
    for (name, guess), (shape, values), is_whole in itertools.product(guesses.items(), shapes.items(), (False, True)):
        tried = [top * (1 + off) for top in _TOPS for off in (-1e-3, 0.0, 1e-3)]
        told_scales = [guess(np.round(top * values) if is_whole else top * values) for top in tried]
        found[f"{name} {shape} {is_whole}"] = np.array([[one.factor, one.offset, one.confidence] for one in told_scales])
    gravities = (9.80665, 1.0, 1000.0, 980.665, 255.0, 256.0, 2048.0, 4096.0)
    norms = [g * ratio * off for g in gravities for ratio in (0.75, 1.0, 1.35) for off in (0.999, 1.001)]
    for is_counted in (False, True):
        weighed = [scales.accel_factor(norm, is_counted) for norm in norms]
        found[f"gravity {is_counted}"] = np.array([[one.factor, one.confidence] for one in weighed])
    found["nothing"] = [guess(np.array([np.nan, 0.0])) for guess in guesses.values()]
    return found


def _table(separator: str, decimal: str, n: int, *, missing: float, header: str, width: int) -> str:
    rng = np.random.default_rng(n)
    rows = rng.normal(0, 100, (n, width))
    cells = [
        ["" if rng.random() < missing else f"{value:.3f}".replace(".", decimal) for value in row[:-1]] + [f"{row[-1]:.0f}"]
        for row in rows
    ]
    names = separator.join(f"gyro {k}" for k in range(width))
    heads = {"": "", "names": f"{names}\n", "units": f"{names}\n{separator.join(['deg/s'] * width)}\n", "comment": f"# {names}\n"}
    return heads[header] + "\n".join(separator.join(row) for row in cells) + "\n"


def dialects() -> Any:
    found: dict[str, Any] = {}
    for separator, decimal, missing in itertools.product((",", ";", "\t", "|", " "), (".", ","), (0.0, 0.3, 0.45, 0.6)):
        if separator == decimal or (separator == " " and missing):
            continue
        for n, header, width in ((1, "names", 3), (2, "", 3), (40, "units", 6), (60, "comment", 4), (210, "names", 5)):
            text = _table(separator, decimal, n, missing=missing, header=header, width=width)
            one = told(lambda t=text: dialect_of(t))
            key = f"{separator} {decimal} {missing} {n} {header}"
            found[key] = one if isinstance(one, str) else [
                one.separator, one.has_decimal_comma, one.has_quotes, one.comment, one.first_data_line, one.has_header,
                one.names[:2], one.units[:2], sum(one.is_text), sum(one.is_long_integer), one.in_words(),
            ]  # fmt: skip
    before = [
        "key = 1", "key: two", "a long line without a mark 12", "sampled at 2000 Hz", "# c: d", "x" * 119 + " = 1",
        "x" * 120 + " = 1", "k = " + "v" * 600, "a=b=c", ": 5", "rate,500", '"q": "r"',
    ]  # fmt: skip
    for line in before:
        text = f"{line}\n" + _table(",", ".", 12, missing=0.0, header="names", width=4)
        found[f"before {line[:30]} {len(line)}"] = told(lambda t=text: [dialect_of(t).preamble, dialect_of(t).names])
    words = "a,b,c\n" + "\n".join(f"{k},{'on' if k % 3 else 'off'},{10**15 + k}" for k in range(30))
    found["words"] = dialect_of(words)
    return found


def units() -> Any:
    found: dict[str, Any] = {}
    roles = (
        "gyro.roll throttle motor.1 stick.yaw accel.x battery_voltage current altitude speed course gyro_temperature "
        "attitude.roll motor_rpm.2 latitude term_p.roll"
    ).split()
    odd = {"Hz", "0.1", "-2", "0", "1e13", "x", "1,5", "\u22121"}
    texts = sorted({unit for shown in SHOWN_UNITS.values() for unit in shown} | odd)
    for role in roles:
        read = [told(lambda t=text, r=role: parse_scale(r, t)) for text in texts]
        found[role] = [quantity_of(role), [one[:9] if isinstance(one, str) else list(one) for one in read]]
        found[f"{role} shown"] = "; ".join(scale_text(role, *one) for one in read if not isinstance(one, str))
    found["kinds"] = {text: sorted(kinds_of(text)) for text in texts}
    found["for"] = {text: [unit_for(text, quantity) is not None for quantity in SHOWN_UNITS] for text in texts}
    heads = (
        "gyro_x_deg_s|acc z (m/s^2)|V_bat[V]|time_us|RPM|motor 1 %|temp °C|speed [km/h] ground|Alt m|p|I|gyroX dps|"
        "Ug [mV]|dist_m|t[ms]|rate (rad/s) roll|ACC_G|count|lat 1e-7deg"
    ).split("|")
    found["headers"] = {head: split_header(head) for head in heads}
    return found


def doubts_of_channels() -> Any:
    """Stuck, clipped, coarse, missing, mirrored and swapped channels right at their edges."""
    found: dict[str, Any] = {}
    rng = np.random.default_rng(3)
    n, rate_hz = 6000, 500.0
    t_s = np.arange(n) / rate_hz
    base = 100 * np.sin(2 * np.pi * 1.3 * t_s) + rng.normal(0, 5, n)

    def noted(name: str, *channels: Channel, t: Any = t_s) -> None:
        stream = Stream(t_s=t, channels=channels)
        log = FlightLog(streams=(stream,), quality=(), format_key="table", rows_read=n, rows_dropped=0)
        found[name] = [[note.code, note.severity, note.column, note.detail, note.start_s] for note in quality_notes(log)]

    def channel(role: str | None, samples: Any, **more: Any) -> Channel:
        return Channel(role=role, name=str(role), unit="deg/s", samples=samples, **more)

    for seconds in (0.02, 0.045, 0.055, 0.09, 0.11, 0.19, 0.21, 0.49, 0.51, 1.1):
        stuck = base.copy()
        stuck[1000 : 1000 + round(seconds * rate_hz) + 1] = base[1000]
        noted(f"stuck {seconds}", channel("gyro.roll", stuck), channel("throttle", 0.4 + stuck / 1000))
    for length, places in itertools.product((2, 3, 4, 5, 8), (1, 2, 3)):
        clipped = np.clip(base, -150, 150)
        for k in range(places):
            clipped[500 + 900 * k : 500 + 900 * k + length] = 150.0
        noted(f"clipped {length} {places}", channel("gyro.pitch", clipped))
    for step in (1, 5, 11, 14, 30, 60):
        noted(
            f"coarse {step}", channel("gyro.yaw", (np.round(base / step) * step).astype(np.int16)), channel("motor_rpm.1", base)
        )
    for top in (2.4, 2.6, 4490.0, 4510.0):
        scaled = base / np.abs(base).max() * top
        noted(
            f"scale {top}", channel("throttle", np.abs(scaled)), channel("gyro.roll", scaled), channel("motor.1", np.abs(scaled))
        )
    for missing in (1, 60, n):
        holes = base.copy()
        holes[:missing] = np.nan
        noted(f"missing {missing}", channel("gyro.roll", holes), channel(None, holes))
    noted("constant", channel("gyro.roll", 0 * base + 3), channel("battery_voltage", 0 * base + 15))
    for mixed in (-1.0, -0.7, -0.5, 0.2, 0.35, 0.45, 0.9):
        other = 90 * np.sin(2 * np.pi * 0.7 * t_s)
        given = mixed * base + np.sqrt(1 - mixed**2) * other
        asked = [channel(f"setpoint.{axis}", values) for axis, values in zip(AXES, (base, other, base[::-1]), strict=True)]
        noted(f"mixed {mixed}", *asked, channel("gyro.roll", given), channel("gyro.pitch", base))
    for jitter in (0.0, 0.05, 0.15, 0.3, 0.6):
        uneven = np.cumsum(1 / rate_hz * (1 + jitter * rng.uniform(-1, 1, n)))
        noted(f"jitter {jitter}", channel("gyro.roll", base), t=uneven)
        noted(f"jitter {jitter}, slow", channel("latitude", base / 1000), t=uneven * 50)
    return found


def paths() -> Any:
    found: dict[str, Any] = {}
    t_s = np.arange(40.0)
    for home in ((52.0, 0.0), (-33.9, 179.999), (0.0, -179.999), (89.0, 20.0)):
        latitude = home[0] + 1e-4 * np.arange(40) * np.cos(t_s / 5)
        longitude = (home[1] + 2e-4 * np.arange(40) * np.sin(t_s / 7) + 180) % 360 - 180
        holes = np.where(t_s % 9 == 4, np.nan, latitude)
        for name, north in (("whole", latitude), ("holes", holes), ("zeroes", np.where(t_s % 11 == 3, 0.0, latitude))):
            east = np.where(t_s % 11 == 3, 0.0, longitude) if name == "zeroes" else longitude
            found[f"{home} {name}"] = [track_of(t_s, north, east), track_of(t_s, north, east, segment=np.floor(t_s / 13))]
    found["few"] = told(lambda: track_of(t_s[:2], np.array([np.nan, 1.0]), np.array([1.0, 1.0])))
    found["beyond"] = track_of(t_s[:4], np.array([1.0, 90.1, 2.0, -90.0]), np.array([1.0, 1.0, 180.1, -180.0]))
    return found


def _proposed(files: list[Any]) -> Any:
    found: dict[str, Any] = {}
    for make in files:
        raw = read_raw(make()[0])
        for number, table in enumerate(propose(raw).tables):
            uses = [f"{use.name[:20]} {use.role} {use.factor:.5g} {use.offset:.4g} {use.confidence:.2f}" for use in table.columns]
            found[f"{make.__name__} {number}"] = [table.clock, "; ".join(uses)]
    return found


def more_tables() -> Any:
    return _proposed([make for k, make in enumerate(MORE) if k % 5])


def bare_names() -> Any:
    """Names by themselves under many units, whatever else stands beside them."""
    words = (
        "rate gyr omega vel acc cmd ref target mot esc out thr vbat amp lat lon hdg att phi theta psi p q r u e err i d f ff"
    ).split()
    found: dict[str, Any] = {}
    for suffix in ("", " x", " roll", "_1", "[2]", " 0", " raw", " filt", " des"):
        guesses = guesses_of(tuple(f"{word}{suffix}" for word in words), ("",) * len(words))
        found[suffix] = "; ".join(f"{one.role} {one.confidence:.2f} {one.state} {one.index}" for one in guesses)
    return found


READINGS: dict[str, Callable[[], Any]] = {
    "tight scales": tight_scales, "dialects": dialects, "units": units, "doubts of channels": doubts_of_channels, "paths": paths,
    "more tables": more_tables, "bare names": bare_names,
}  # fmt: skip
