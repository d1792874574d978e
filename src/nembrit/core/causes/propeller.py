"""A propeller that is bent, chipped or off centre: one motor shakes once per turn far more than its neighbours."""

from nembrit.core.causes.cause import LEAST_S, MECHANICAL, Cause, Measured, Repair, Shown, Values, Words, log2, over
from nembrit.core.causes.sight import Sight
from nembrit.core.noise.motors import MotorShares, once_per_turn, once_per_turn_estimated
from nembrit.core.records.needs import Need
from nembrit.core.rotors.track import RotorTrack, commanded_track

NO_COMMANDS = "needs every motor's command, and a throttle that moves; motor speeds would confirm it"
_SURE_LEAD = 4.0  # without recorded speeds a milder lead only names the roughest motor


def every_motors_speed(sight: Sight) -> RotorTrack | None:
    """Speeds of all motors, at least against one another; None where their commands do not tell them."""
    track = sight.track or (None if sight.frames is None else commanded_track(sight.frames))
    return track if track is not None and track.hz.shape[1] >= max(3, sight.n_motors) else None


def _measure(sight: Sight) -> Measured:
    frames = sight.frames
    if frames is None:
        return Measured(untested=sight.reasons["frames"])
    track = every_motors_speed(sight)
    if track is None:
        return Measured(untested=NO_COMMANDS)
    if track.is_relative:
        return Measured(untested="no lines show how fast the motors turn: record their speeds")
    recording = sight.recording
    turning = once_per_turn(recording, track.hz.shape[1]) if track.is_recorded else once_per_turn_estimated(frames, track)
    if turning is None:
        return Measured(untested="the motors never turned at speeds far enough apart: fly snaps in roll and yaw")
    values = {
        "turn_over_median": turning.over_median,
        "turn_over_second": turning.over_second,
        "turn_is_recorded": float(track.is_recorded),
    }
    return Measured(values=values, seen=turning)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "turn_over_median" not in v:
        return None
    # speeds that are estimated blur motors into one another
    start, unit = (0.7, 0.3) if v["turn_is_recorded"] else (0.5, 0.25)
    return (over(log2(v["turn_over_median"]), start, unit), over(log2(v["turn_over_second"]), start - 0.2, unit))


def _words(v: Values, turning: MotorShares) -> Words:
    return Words(
        motor=turning.motor,
        highlight=f"Motor {turning.motor} shakes {turning.over_median:.1f} times as much as its neighbours, once per revolution",
        conclusion=": its propeller is probably bent, chipped or off centre.",
        evidence={"over_median": turning.over_median, "over_second": turning.over_second},
    )


CAUSE = Cause(
    code="propeller",
    kind=MECHANICAL,
    name="propeller",
    needs=Need(rate_hz=450, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    is_only_a_sign=lambda v: v.get("turn_is_recorded") == 0.0 and v["turn_over_median"] < _SURE_LEAD,
    look_alikes=(("a bent bell or shaft", "swap two propellers: does the line follow the propeller or stay with the motor?"),),
    shows=(
        Shown(name="turn_over_median", label="once-per-revolution shake, compared with the median motor", unit="times"),
        Shown(name="turn_over_second", label="compared with the next motor", unit="times"),
    ),
    proof="Swap this propeller with its neighbour's and fly again: if the line moves with it, the propeller is the cause.",
    repair=Repair(
        part="propeller of motor {motor}",
        title="New propeller",
        button="Record the new propeller on motor {motor}",
        metric="jitter_noise.roll",
    ),
    is_about_motors=True,
    marks_order=1,
)
