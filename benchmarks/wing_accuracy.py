"""The wing desk on planes and seeds that nothing was tuned to; part of `check --full`."""

import math
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime

import numpy as np

from benchmarks import wing_trims
from benchmarks.wing_cases import (
    FIRST_SEED,
    creep_case,
    forward_case,
    gains_case,
    rates_case,
    return_case,
    speeds_case,
    trim_case,
    weaving_case,
    wind_case,
)  # fmt: skip
from nembrit.core.errors import CoreError

N_A_KIND = 12


def measure() -> tuple[list[str], bool]:
    """The section of the report, and whether no side or faultless flight was judged wrongly."""
    lines = list(report())
    sure = [line for line in lines if any(item in line for item in _NEVER_WRONG)]
    return lines, all(line.endswith(": met |") for line in sure)


_NEVER_WRONG = ("side of a roll trim", "pull where there is none", "tilted horizon", "two speeds")


def report() -> Iterable[str]:
    yield "## Planes"
    yield ""
    yield (
        f"Measured {datetime.now(UTC):%d %B %Y} on planes of the stand-in (V-tail, T-tail, flying wing) whose derivatives were "
        f"drawn within a fifth, seeds from {FIRST_SEED}, wind 0.5 to 6 m/s, gusts of 0.3 to 1.5 m/s, 50 Hz. Truth is what was "
        "put in, or what the same plane does in still air."
    )
    yield ""
    with ProcessPoolExecutor() as pool:
        yield from _rows(pool)


def _run(pool: ProcessPoolExecutor, case: Callable[..., dict[str, object]], jobs: Sequence[object]) -> list[dict[str, object]]:
    return list(pool.map(case, jobs))


def _p90(rows: list[dict[str, object]], key: str) -> float:
    values = np.array([float(row[key]) for row in rows], dtype=float)  # type: ignore[arg-type]
    values = values[np.isfinite(values)]
    return float(np.quantile(np.abs(values), 0.9)) if values.size else math.nan


def _share(rows: Sequence[dict[str, object]], holds: Callable[[dict[str, object]], bool]) -> str:
    good = sum(bool(holds(row)) for row in rows)
    return f"{good} of {len(rows)}"


def _line(item: str, n: int, came: str, demanded: str, met: bool) -> str:
    return f"| {item} | {n} | {came} | {demanded}: {'met' if met else 'not met'} |"


def _rows(pool: ProcessPoolExecutor) -> Iterable[str]:
    numbers = list(range(N_A_KIND))
    yield "| item | flights | came out | demanded |"
    yield "|---|---|---|---|"
    trims = _run(pool, trim_case, range(2 * N_A_KIND))
    roll, pitch = _p90(trims, "roll_us"), _p90(trims, "pitch_us")
    yield _line("roll trim of 70 s, µs", len(trims), f"90 % within {roll:.1f}", "4", roll <= 4)
    yield _line(
        "side of a roll trim above 8 µs",
        len(trims),
        _share(trims, lambda row: bool(row["side"])),
        "all",
        all(row["side"] for row in trims),
    )
    yield _line("pitch trim, µs", len(trims), f"90 % within {pitch:.1f}", "8", pitch <= 8)
    covered = np.mean([bool(row["covered"]) for row in trims])
    yield _line("interval of the roll trim", len(trims), f"covers {100 * covered:.0f} %", "90 %", covered >= 0.9)
    creeps = _run(pool, creep_case, range(2 * N_A_KIND))
    error, covered = _p90(creeps, "error"), np.mean([bool(row["covered"]) for row in creeps])
    yield _line("creep, wind taken out, deg/s", len(creeps), f"90 % within {error:.2f}", "0.3", error <= 0.3)
    yield _line("interval of the creep", len(creeps), f"covers {100 * covered:.0f} %", "90 %", covered >= 0.9)
    speeds = _run(pool, speeds_case, numbers)
    right = all(row["told"] in (row["wanted"], "cannot tell") for row in speeds)
    yield _line("two speeds", len(speeds), _share(speeds, lambda row: row["told"] == row["wanted"]), "none wrong", right)
    yield from _weaving_rows(pool, numbers)
    for card, name in (("tracks", "box and legs"), ("circles", "circles")):
        for with_pitot, most in ((True, 1.3), (False, 1.7)):
            winds = _run(pool, wind_case, [(number, card, with_pitot) for number in range(2 * N_A_KIND)])
            off = _p90(winds, "error")
            strong = [row for row in winds if float(row["wind"]) > 3]  # type: ignore[arg-type]
            turned, covered = _p90(strong, "turned"), np.mean([bool(row["covered"]) for row in winds])
            how = "with airspeed" if with_pitot else "from ground speed"
            came = f"90 % within {off:.2f}, direction {turned:.0f}°, covers {100 * covered:.0f} %"
            yield _line(
                f"wind from {name}, {how}, m/s",
                len(winds),
                came,
                f"{most}, 12°, 90 %",
                off <= most and turned <= 12 and covered >= 0.9,
            )
    gains = _run(pool, gains_case, numbers)
    counted = all(row["count"] for row in gains)
    hold = max(abs(float(row["hold"])) for row in gains)  # type: ignore[arg-type]
    yield _line(
        "holds counted",
        len(gains),
        f"{_share(gains, lambda row: bool(row['count']))}, median hold within {hold:.2f} s",
        "all, 0.05 s",
        counted and hold <= 0.05,
    )
    settled = sum(row["verdict"] == "settled" for row in gains)
    yield f"| gains from below | {len(gains)} | {settled} settled, {len(gains) - settled} not yet after 28 holds | – |"
    returns = _run(pool, return_case, range(2 * N_A_KIND))
    limits = {"turn": 0.5, "height": 1.5, "overshoot": 3.0, "radius": 2.0}
    worst = {key: np.nanmax([abs(float(row[key])) for row in returns]) for key in limits}  # type: ignore[arg-type]
    came = ", ".join(f"{key} {value:.2f}" for key, value in worst.items())
    met = all(worst[key] <= most for key, most in limits.items())
    yield _line("return: turn s, height m, overshoot m, circle radius m, largest", len(returns), came, "0.5, 1.5, 3, 2", met)
    yield _line(
        "return: circles or lands",
        len(returns),
        _share(returns, lambda row: bool(row["ends"])),
        "all",
        all(row["ends"] for row in returns),
    )
    rates = _run(pool, rates_case, range(2 * N_A_KIND))
    limits = {"delay_ms": 15.0, "peak_pp": 6.0, "k_pct": 6.0, "lag_ms": 20.0}
    came = ", ".join(f"{key.split('_')[0]} {_p90(rates, key):.1f}" for key in limits)
    met = all(_p90(rates, key) <= most for key, most in limits.items())
    yield _line("roll rate: delay ms, peak points, K %, lag ms, 90 %", len(rates), came, "15, 6, 6, 20", met)
    forwards = [row for row in _run(pool, forward_case, range(2 * N_A_KIND)) if row["is_known"]]
    off, covered = _p90(forwards, "forward_pct"), float(np.mean([bool(row["covered"]) for row in forwards]))
    came = f"90 % within {off:.1f}, covers {100 * covered:.0f} %"
    yield _line("feed-forward ratio, %", len(forwards), came, "8, 90 %", off <= 8 and covered >= 0.9)
    yield from wing_trims.rows(pool)


def _weaving_rows(pool: ProcessPoolExecutor, numbers: Sequence[int]) -> Iterable[str]:
    jobs = [(number, fault) for fault in ("sound", "gain", "trim", "horizon", "both") for number in numbers]
    rows = _run(pool, weaving_case, jobs)
    by = {fault: [row for row in rows if row["fault"] == fault] for fault in ("sound", "gain", "trim", "horizon", "both")}
    has_trim = lambda row: row["side"] is not None  # noqa: E731 - a word for the lines below
    has_gain = lambda row: row["verdict"] in ("navigation_gain", "both")  # noqa: E731
    clean = by["sound"] + by["gain"]
    false = sum(has_trim(row) for row in clean)
    yield _line("pull where there is none (sound, tight navigation)", len(clean), f"{false} false", "at most 1", false <= 1)
    pulled = by["trim"] + by["both"]
    found, sided = sum(has_trim(row) for row in pulled), all(row["side"] in (row["wanted"], None) for row in pulled)
    yield _line(
        "pull found, side",
        len(pulled),
        f"{found}, side {'always right' if sided else 'wrong'}",
        "95 %",
        found >= 0.95 * len(pulled) and sided,
    )
    swings = by["gain"] + by["both"]
    seen, false = sum(has_gain(row) for row in swings), sum(has_gain(row) for row in by["sound"] + by["trim"] + by["horizon"])
    yield _line(
        "navigation gain found; false", len(swings), f"{seen}; {false}", "95 %; 2 %", seen >= 0.95 * len(swings) and false <= 1
    )
    never = all(row["verdict"] not in ("trim", "both") for row in by["horizon"])
    told_so = _share(by["horizon"], lambda row: row["verdict"] == "trim_or_horizon")
    yield _line("tilted horizon: “trim or horizon”", len(by["horizon"]), told_so, "never “trim” alone", never)


def main() -> None:
    try:
        for line in report():
            print(line, flush=True)
    except CoreError as error:
        raise SystemExit(str(error)) from None


if __name__ == "__main__":
    main()
