"""Planes with drawn faults, trimmed by who does nothing but what the next trim step says, flight by flight."""

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from benchmarks.wing_cases import CARDS, FIRST_SEED, SURFACES, drawn, neutral_of, recording_of, told
from nembrit.core.analysis.wing import Wing
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.plane.airframe import PlaneFaults, PlaneWorld
from nembrit.core.simulate.plane.flight import fly_plane
from nembrit.core.wing.cure import YawPoint, yaw_trim_of
from nembrit.core.wing.trim import Trim, trim_of
from nembrit.core.wing.trimstep import FLY, LEVEL, MOVE, Shown, TrimStep, trim_step

N_PLANES, _FLIGHTS = 72, 10
_FAULTS = (
    "sound",
    "yaw",
    "roll",
    "pitch",
    "yaw+roll",
    "yaw+pitch",
    "horizon",
    "yaw+horizon",
    "roll+pitch",
    "sound",
    "yaw",
    "roll",
)
_KINDS = ("v_tail", "a_tail", "t_tail", "flying_wing")
_INVERTED = tuple(replace(one, role=one.role.replace("v_tail", "a_tail")) for one in SURFACES["v_tail"])


@dataclass(frozen=True, kw_only=True)
class Trimmed:
    """How one plane ended; offsets are what is still missing [µs]."""

    faults: str
    kind: str
    yaw_planted_us: float
    yaw_left_us: float
    roll_left_us: float
    pitch_left_us: float
    tilted: bool
    was_levelled: bool
    moved_when_sound: bool
    confused: bool  # a trim was moved for a horizon alone, or the board levelled for a trim alone
    flights: int
    is_done: bool


def trimmed(number: int) -> Trimmed:
    """Fly legs and level flight, do what the step says, fly the card that it asks for, until it says trimmed twice or never."""
    rng = np.random.default_rng(FIRST_SEED + 500_000 + number)
    faults, kind = _FAULTS[number % len(_FAULTS)], _KINDS[int(rng.integers(len(_KINDS)))]
    plane = drawn(400 + number, kinds=("v_tail" if kind == "a_tail" else kind,))
    surfaces: tuple[Surface, ...] = _INVERTED if kind == "a_tail" else plane.surfaces
    planted = dict.fromkeys(("roll", "pitch", "yaw"), 0.0)
    for axis in planted:
        if axis in faults and not (axis == "yaw" and kind == "flying_wing"):
            planted[axis] = float(rng.choice([-1, 1]) * rng.uniform(12, 32))
    tilt = float(rng.choice([-1, 1]) * rng.uniform(1.4, 2.6)) if "horizon" in faults else 0.0
    neutral = {
        servo: sum(neutral_of(surfaces, axis, size)[servo] for axis, size in planted.items()) - 2 * 1500.0
        for servo in neutral_of(surfaces, "roll", 0.0)
    }
    variant = {
        "servo_slop_us": float(rng.choice([0.0, 6.0])), "gps_gap_ratio": float(rng.choice([0.0, 0.05])),
        "baro_drift_m": float(rng.uniform(-4, 4)), "forward_power": float(rng.choice([0.0, 1.0, 2.0])),
        "holds_attitude": bool(rng.random() < 0.3), "pitot_offset_m_s": float(rng.uniform(-0.6, 0.6)),
    }  # fmt: skip

    def fly(card: str, seed: int, *, still: bool = False, surfaces: tuple[Surface, ...]) -> object:
        world = PlaneWorld(
            seed=seed, wind_m_s=0.0 if still else plane.wind_m_s * (0.3 if card == "speeds" else 1.0),
            wind_from_deg=plane.wind_from_deg, gusts_ratio=0.0 if still else plane.gusts_ratio, noise_ratio=0.0 if still else 1.0,
            faults=PlaneFaults(neutral_us=neutral, tilt_deg=tilt, **variant),
        )  # fmt: skip
        return fly_plane(surfaces, CARDS[card], world, airframe=plane.airframe)

    shown: list[Shown] = []
    history: list[YawPoint] = []
    cause, card, levelled, moved_sound, confused, done, n = "cannot tell", "tracks", False, False, False, False, 0
    queue = ["trim", "tracks"]
    while n < _FLIGHTS and not done:
        card = queue.pop(0)
        n += 1
        wing: Wing = told(fly(card, FIRST_SEED + 1000 * number + n, surfaces=surfaces), surfaces)  # type: ignore[arg-type]
        if wing.speeds is not None and wing.speeds.verdict != "cannot tell":
            cause = wing.speeds.verdict
        shown.insert(0, Shown(number=n, trim=wing.trim, pull=wing.pull))
        trim_us = yaw_trim_of(surfaces)
        if trim_us is not None and wing.pull is not None:
            history.append(YawPoint(trim_us, wing.pull.creep_deg_s, wing.pull.error_deg_s))
        if queue:
            continue
        step = trim_step(surfaces, shown, history, cause=cause)
        if step is None:
            break
        if step.kind == MOVE:
            sound_axes = [axis for axis in planted if not planted[axis]]
            confused |= step.is_yaw and "yaw" in sound_axes and "horizon" in faults
            before, surfaces = surfaces, _moved(surfaces, step)
            if faults == "sound":
                moved_sound |= step.is_yaw or _made_worse(fly, before, surfaces)
            shown, queue = [], (["tracks", "trim"] if step.is_yaw else ["trim"])
        elif step.kind == LEVEL:
            confused |= not tilt
            tilt, levelled, cause, shown, queue = 0.0, True, "cannot tell", [], ["trim", "tracks"]
        elif step.kind == FLY:
            if not step.card or "no surface here" in step.headline:
                done = True
            queue = ["speeds"]
            if card == "speeds":
                queue = ["speeds"] if n < 6 else []
                done = not queue
        else:
            done = True
    held = _still_trim(fly, surfaces)
    yaw_now = yaw_trim_of(surfaces)
    return Trimmed(
        faults=faults, kind=kind, yaw_planted_us=planted["yaw"],
        yaw_left_us=0.0 if yaw_now is None else planted["yaw"] - yaw_now,
        roll_left_us=held.axes["roll"].trim_us, pitch_left_us=held.axes["pitch"].trim_us, tilted=bool(tilt),
        was_levelled=levelled,
        moved_when_sound=moved_sound, confused=confused, flights=n, is_done=done,
    )  # fmt: skip


def _moved(surfaces: Sequence[Surface], step: TrimStep) -> tuple[Surface, ...]:
    moves = {move.servo: move.new_us for move in step.moves}
    return tuple(replace(one, centre_us=moves.get(one.servo, one.centre_us)) for one in surfaces)


def _still_trim(fly: Callable[..., object], surfaces: tuple[Surface, ...]) -> Trim:
    """What is held in still air with perfect sensors: the truth."""
    return trim_of(recording_of(fly("trim", 1, still=True, surfaces=surfaces)), surfaces)  # type: ignore[arg-type]


def _made_worse(fly: Callable[..., object], before: tuple[Surface, ...], after: tuple[Surface, ...]) -> bool:
    """Whether a move left more to hold than there was."""
    old, new = (_still_trim(fly, own).axes for own in (before, after))
    return any(abs(new[axis].trim_us) > abs(old[axis].trim_us) + 1 for axis in ("roll", "pitch"))


def rows(pool: ProcessPoolExecutor) -> Iterable[str]:
    """Lines of the report's table."""
    ends = list(pool.map(trimmed, range(N_PLANES)))
    yaws = [one for one in ends if "yaw" in one.faults and one.kind != "flying_wing" and "horizon" not in one.faults]
    near = sum(abs(one.yaw_left_us) <= 6 for one in yaws)
    yield _line(
        f"yaw trims solved within 6 µs ({_FLIGHTS} flights at most)", len(yaws), f"{near}", "95 %", near >= 0.95 * len(yaws)
    )
    wrong = sum(abs(one.yaw_left_us) > abs(one.yaw_planted_us) + 3 for one in yaws)
    yield _line("yaw moved the wrong way", len(yaws), f"{wrong}", "none", wrong == 0)
    rolls = [one for one in ends if "roll" in one.faults or "pitch" in one.faults]
    for axis, most in (("roll", 4.0), ("pitch", 8.0)):
        left = np.array([abs(getattr(one, f"{axis}_left_us")) for one in rolls])
        within = float(np.quantile(left, 0.9))
        # a centre within five microseconds stays where it is
        yield _line(f"{axis} that is still held, µs", len(rolls), f"90 % within {within:.1f}", f"{most:.0f}", within <= most)
    sound = [one for one in ends if one.faults == "sound"]
    moved = sum(one.moved_when_sound for one in sound)
    yield _line("sound planes made worse", len(sound), f"{moved}", "5 %", moved <= 0.05 * len(sound))
    confused = sum(one.confused for one in ends)
    yield _line("trim and horizon confused", len(ends), f"{confused}", "2 %", confused <= 0.02 * len(ends))
    tilted = [one for one in ends if "horizon" in one.faults]
    levelled = sum(one.was_levelled for one in tilted)
    yield f"| tilted horizon: levelled on advice | {len(tilted)} | {levelled} | – |"
    flights = [one.flights for one in ends]
    yield f"| flights to the end | {len(ends)} | median {np.median(flights):.0f}, most {max(flights)} | – |"


def _line(item: str, n: int, came: str, demanded: str, met: bool) -> str:
    return f"| {item} | {n} | {came} | {demanded}: {'met' if met else 'not met'} |"


def main() -> None:
    with ProcessPoolExecutor() as pool:
        for line in rows(pool):
            print(line, flush=True)


if __name__ == "__main__":
    main()
