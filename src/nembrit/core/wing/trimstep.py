"""The next step of trimming a plane: what to move, which way, why, and what to fly after it; or what to fly before it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.setup.craft import Surface
from nembrit.core.wing.cure import YawPoint, YawStep, new_centres, surely_held, yaw_step, yaw_trim_of
from nembrit.core.wing.pull import Pull
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.words import signed

MOVE, FLY, LEVEL, TRIMMED = "move", "fly", "level", "trimmed"
_OPEN_DEG_S = 0.7  # a pull that is known no better says nothing about the roll that is held
_NAMES = {
    "aileron": "aileron", "aileron_left": "left aileron", "aileron_right": "right aileron", "elevator": "elevator",
    "rudder": "rudder", "v_tail_left": "left ruddervator", "v_tail_right": "right ruddervator",
    "a_tail_left": "left ruddervator", "a_tail_right": "right ruddervator", "elevon_left": "left elevon",
    "elevon_right": "right elevon", "flap": "flap",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """One servo's centre."""

    servo: int
    name: str  # left ruddervator
    old_us: float
    new_us: float
    way: str  # trailing edge up

    @property
    def in_words(self) -> str:
        return f"{self.name} {self.old_us:.0f} → {self.new_us:.0f} µs: {self.way}"


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimStep:
    """One step, in the order in which it is done."""

    kind: str  # move, fly, level, trimmed
    headline: str
    why: tuple[str, ...]
    moves: tuple[Move, ...] = ()
    expect: str = ""
    card: str = ""  # to fly next
    is_yaw: bool = False
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Shown:
    """What one flight shows of trims."""

    number: int
    trim: Trim | None
    pull: Pull | None


def trim_step(
    surfaces: Sequence[Surface], flights: Sequence[Shown], history: Sequence[YawPoint], *, cause: str = "cannot tell"
) -> TrimStep | None:
    """The next step from the flights with these centres (newest first), and the yaw trims of all (newest last).

    A pull goes first: while it stands no roll is moved, since a part of it is held against the sideslip. What pulls is said by
    two airspeeds (`cause`: what earlier flights told); a yaw trim is moved on the tail, a tilted horizon is levelled on the
    bench. Without a pull what is surely held is moved into the centres. None where nothing was measured.
    """
    held = next((one for one in flights if one.trim is not None and one.trim.axes), None)
    pulled = next((one for one in flights if one.pull is not None), None)
    pull = pulled.pull if pulled is not None else None
    if pull is not None and pull.side is not None and pulled is not None:
        return _against(surfaces, pulled, pull, held, history, pull.cause if pull.cause != "cannot tell" else cause)
    return _held(surfaces, held, pull) if held is not None else None


def _against(
    surfaces: Sequence[Surface], pulled: Shown, pull: Pull, held: Shown | None, history: Sequence[YawPoint], cause: str
) -> TrimStep:
    why = (f"Flight {pulled.number} is pulled: {pull.in_words}.",)
    if cause in ("horizon", "both"):
        both = " Then correct the yaw trim." if cause == "both" else ""
        return TrimStep(
            kind=LEVEL, headline="Level the controller; leave the servos alone", card="wing_two_speeds",
            why=(*why, "It falls with airspeed: the controller’s horizon is tilted, or the motor pulls to one side." + both),
            expect="Level the controller on the bench, then fly two speeds again. If it still pulls, glide with the motor off: a "
            "motor that pulls stops pulling.",
        )  # fmt: skip
    if cause != "trim":
        return TrimStep(
            kind=FLY, headline="Fly “Two speeds” before you move any trim", card="wing_two_speeds",
            why=(*why, "One airspeed cannot separate a yaw trim error from a tilted horizon."),
            expect="A yaw trim pulls more when fast, a tilted horizon less. Trim roll afterwards, because sideslip "
                "hides part of it.",
        )  # fmt: skip
    step = yaw_step(history)
    if yaw_trim_of(surfaces) is None or step is None:
        return TrimStep(
            kind=FLY, headline="It pulls like a yaw trim error, but no surface here moves yaw", why=why,
            expect="Look for a bent fin, a wing that is heavier or dragging on one side, and the motor’s side thrust.",
        )  # fmt: skip
    return _yaw(surfaces, pulled, why, step, held)


def _yaw(surfaces: Sequence[Surface], pulled: Shown, why: tuple[str, ...], step: YawStep, held: Shown | None) -> TrimStep:
    directions = _directions(held)
    moves, notes = _moves(surfaces, {}, step.step_us, directions)
    side = "left" if step.step_us < 0 else "right"
    pulls_to = pulled.pull.side if pulled.pull is not None else side
    what = "Both ruddervators" if any("ruddervator" in one.name for one in moves) else "Rudder"
    how = "This first step also measures the effect per microsecond" if step.is_first else "From the effect of the last step"
    return TrimStep(
        kind=MOVE, is_yaw=True, moves=moves, notes=notes, card="wing_tracks",
        headline=f"{what}: nose {side} by {abs(step.step_us):.0f} µs" if moves else "A yaw trim error, but no servo "
            "that may move",
        why=(*why, "It grows with airspeed: a yaw trim error.", f"{how} ({step.deg_s_per_us:.3f} deg/s per µs)."),
        expect=f"The pull to the {pulls_to} falls by about {abs(step.step_us) * step.deg_s_per_us:.1f} "
        "deg/s. Measure roll again afterwards.",
    )  # fmt: skip


def _held(surfaces: Sequence[Surface], held: Shown, pull: Pull | None) -> TrimStep | None:
    assert held.trim is not None
    sure = {axis: value for axis, value in surely_held(held.trim).items() if axis != "yaw"}  # nothing holds yaw
    notes: list[str] = []
    if pull is None or 1.96 * pull.error_deg_s > _OPEN_DEG_S:
        notes.append("a pull to one side was not measured: fly four straight legs")
    moves, unknown = _moves(surfaces, sure, 0.0, _directions(held))
    if not moves:
        if sure:
            return TrimStep(
                kind=FLY,
                headline="The controller holds a trim, but no servo may move",
                why=(_held_words(held, sure),),
                notes=unknown,
            )
        known = {axis: own for axis, own in held.trim.axes.items() if axis != "yaw"}
        if not known:
            return None
        reach = max(abs(end) for own in known.values() for end in own.interval_us)
        return TrimStep(
            kind=TRIMMED, headline=f"Trimmed within {reach:.0f} µs: {', '.join(sorted(known))}",
            why=(f"Measured in flight {held.number}.",),
            notes=tuple(notes),
        )  # fmt: skip
    return TrimStep(
        kind=MOVE, moves=moves, notes=(*notes, *unknown), card="wing_trim", why=(_held_words(held, sure),),
        headline=f"Move the held trim into the servo centres: {' and '.join(sure)}",
        expect="Hands off, the controller holds no trim, and nothing lurches at the switch to manual.",
    )  # fmt: skip


def _held_words(held: Shown, axes: Mapping[str, float]) -> str:
    assert held.trim is not None
    told = ", ".join(f"{axis} by {signed(value)} ± {held.trim.axes[axis].half_width_us:.0f} µs" for axis, value in axes.items())
    return f"In flight {held.number} the controller holds a trim hands off: {told}."


def _directions(held: Shown | None) -> dict[int, int | None]:
    return {int(servo): own.direction for servo, own in held.trim.servos.items()} if held is not None and held.trim else {}


def _moves(
    surfaces: Sequence[Surface], held_us: Mapping[str, float], yaw_us: float, directions: Mapping[int, int | None]
) -> tuple[tuple[Move, ...], tuple[str, ...]]:
    centres = new_centres(surfaces, held_us, yaw_us, directions=directions)
    found = tuple(
        Move(
            servo=one.servo, name=surface_name(one, surfaces), old_us=one.centre_us, new_us=centres[one.servo],
            way=way_of(one.role, (centres[one.servo] - one.centre_us) * (one.direction or directions.get(one.servo) or 1)),
        )
        for one in surfaces
        if one.servo in centres
    )  # fmt: skip
    unknown = [one for one in surfaces if one.role != "flap" and one.direction is None and directions.get(one.servo) is None]
    if not unknown or not (held_us or yaw_us):
        return found, ()
    told = " and ".join(surface_name(one, surfaces) for one in unknown)
    return found, (f"{told} cannot move: its direction is unknown. Set it on the page “Control surfaces”",)


def surface_name(surface: Surface, surfaces: Sequence[Surface]) -> str:
    """“left ruddervator”; with the servo's number where several have the same name."""
    name = _NAMES[surface.role]
    alike = sum(one.role == surface.role for one in surfaces)
    return f"{name} (servo {surface.servo})" if alike > 1 else name


def way_of(role: str, deflection_us: float) -> str:
    """Which way the trailing edge goes for a deflection that is positive to the right, nose up, nose right.

    >>> way_of("v_tail_left", 14.0), way_of("aileron_left", 14.0), way_of("rudder", -14.0), way_of("aileron", 14.0)
    ('trailing edge up', 'trailing edge down', 'trailing edge left', 'so that it rolls right')
    """
    more = deflection_us > 0
    if role == "rudder":
        return f"trailing edge {'right' if more else 'left'}"
    if role == "aileron":
        return f"so that it rolls {'right' if more else 'left'}"
    if role == "aileron_left":
        more = not more
    return f"trailing edge {'up' if more else 'down'}"
