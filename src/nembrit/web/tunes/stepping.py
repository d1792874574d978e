"""The route “step up by feel”: the ledger as entries, the next step written as a slip, and answers from the field."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.routes import stepup
from nembrit.core.routes.agreement import Agreement, agreement
from nembrit.core.routes.stepup import CLEAN, SIGNS, Entry, Step
from nembrit.core.setup.configuration import apply_changes, number
from nembrit.core.tuning.translate import like
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map
from nembrit.web.packs.services import tests_that_fit
from nembrit.web.tunes import services
from nembrit.web.tunes.models import Decision, Slip, Tune
from nembrit.web.tunes.predictions import gate_of

_KEYS = {
    "p.roll": ("gain.rate.roll.p",), "d.roll": ("gain.rate.roll.d",), "p.pitch": ("gain.rate.pitch.p",),
    "d.pitch": ("gain.rate.pitch.d",), "i.roll": ("gain.rate.roll.i",), "i.pitch": ("gain.rate.pitch.i",),
    "f.roll": ("gain.rate.roll.f",), "f.pitch": ("gain.rate.pitch.f",),
    "cutoff": ("filter.gyro.low.cutoff_hz", "filter.gyro.low_1.cutoff_hz"),
}  # fmt: skip
_GROUPS = {
    "p.roll": "pd.roll", "d.roll": "pd.roll", "p.pitch": "pd.pitch", "d.pitch": "pd.pitch", "cutoff": "gyro_filters",
    "i.roll": "i", "i.pitch": "i", "f.roll": "feed_forward", "f.pitch": "feed_forward",
}  # fmt: skip
_TEST_S = 30.0
_ASKING = ("hover", "ask", "check", "answer")  # steps that an answer ends


@dataclass(frozen=True, slots=True, kw_only=True)
class Dial:
    """One value of the route, for the table."""

    label: str
    start: str
    now: str
    highest: str  # flown without a bad sign
    state: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Coach:
    """Where the route stands."""

    step: Step
    slip: Slip | None  # being flown
    dials: list[Dial]
    missing: list[str]
    lines: str  # the new values, to be pasted
    flight: Flight | None  # of the step, with a log
    agreement: Agreement | None
    n_flown: int
    n_tests: int
    n_packs: int
    is_fine: bool


def coach_of(tune: Tune) -> Coach:
    """Read the ledger and say what comes next. Raises InputError for a craft without settings or names."""
    latest = _settings(tune.craft)
    names = dials_of(latest)
    values, entries, start = _values(latest, names), entries_of(tune), _start(tune, latest)
    pending = _pending(tune)
    step = _step(tune, latest)
    flight, said = _log(pending)
    n_packs, n_tests = tests_that_fit(tune.craft, _TEST_S)
    return Coach(
        step=step, slip=pending, dials=_table(entries, values, start), missing=_missing(names),
        lines=_lines(latest, pending), flight=flight, agreement=said, n_packs=n_packs, is_fine=bool(tune.coached.get("fine")),
        n_flown=sum(one.kind in ("hover", "raise", "check", "ask", "change") and one.sign is not None for one in entries),
        n_tests=n_tests,
    )  # fmt: skip


def step_due(tune: Tune) -> Step:
    """The step that comes next. Raises InputError for a craft without settings or names."""
    return _step(tune, _settings(tune.craft))


def begin(tune: Tune, *, fine: bool) -> None:
    """Follow this route from the present settings on; what the ledger holds stays, and what was begun continues."""
    latest = latest_configuration(tune.craft)
    tune.route, tune.coached = Tune.Route.STEP_UP, {**tune.coached, "fine": fine}
    if latest is not None and not tune.coached.get("start"):
        tune.coached["start"] = _values(latest, dials_of(latest))
    tune.save(update_fields=("route", "coached"))


def entries_of(tune: Tune) -> list[Entry]:
    """The ledger of the route, oldest first: slips with their steps, and flights that changed nothing."""
    found: list[tuple[datetime, Entry]] = [
        (slip.created_at, _entry(slip)) for slip in tune.slips.exclude(route_step={}).order_by("number")
    ]
    for one in tune.coached.get("flights", ()):
        found.append((datetime.fromisoformat(one["at"]), Entry(kind=one["kind"], dial=one["dial"], sign=one["sign"])))
    return [entry for _, entry in sorted(found, key=lambda pair: pair[0])]


def _entry(slip: Slip) -> Entry:
    """A step that was decided on its slip's own page was answered by that."""
    entry = Entry(**slip.route_step)
    if entry.sign is None and slip.state != Slip.State.OPEN:
        return replace(entry, sign=CLEAN if slip.state == Slip.State.KEPT else "undone")
    return entry


@transaction.atomic
def write_step(tune: Tune) -> Slip:
    """Write the step that is due as a slip with its new settings. Raises InputError where none is, or the gate is closed."""
    latest = _settings(tune.craft)
    step = _step(tune, latest)
    if step.values is None:
        raise InputError("this step changes no setting: fly with the present ones and answer")
    if step.kind != "down":
        return _written(tune, latest, step)
    try:
        with transaction.atomic():
            return _written(tune, latest, step)
    except InputError:  # a lower cutoff adds lag, which a poor loop may not bear: then P and D alone
        return _written(tune, latest, replace(step, values={dial: at for dial, at in step.values.items() if dial != "cutoff"}))


@transaction.atomic
def answer(tune: Tune, sign: str, *, note: str = "") -> Slip | None:
    """Keep what was felt, and take back what showed a bad sign. Raises InputError for an answer that was not asked for."""
    latest = _settings(tune.craft)
    step = _step(tune, latest)
    if sign not in step.answers or step.kind not in _ASKING:
        raise InputError("choose one of the answers" if step.kind in _ASKING else "no flight waits for an answer")
    pending = _pending(tune)
    if pending is None:
        _keep_flight(tune, step, sign)
        return _taken_back(tune)
    pending.route_step = {**pending.route_step, "sign": sign}
    pending.save(update_fields=("route_step",))
    is_bad = pending.route_step["kind"] == "raise" and sign != CLEAN
    said = step.answers[sign] + (f". {note.strip()}" if note.strip() else "")
    services.decide(pending, Decision.Outcome.UNDO if is_bad else Decision.Outcome.KEEP, note=f"Felt: {said}"[:300])
    tune.refresh_from_db()
    return _taken_back(tune)


def _taken_back(tune: Tune) -> Slip | None:
    """What a bad sign takes back, written at once; where the gate is shut for it, the value stays at what it was before."""
    latest = _settings(tune.craft)
    after = _step(tune, latest)
    if after.kind != "back":
        return None
    try:
        with transaction.atomic():
            return _written(tune, latest, after)
    except InputError:
        _keep_flight(tune, after, "")
        return None


def _keep_flight(tune: Tune, step: Step, sign: str) -> None:
    """Add a line to the ledger that changes no setting."""
    flights = [
        *tune.coached.get("flights", ()),
        {"at": timezone.now().isoformat(), "kind": step.kind, "dial": step.dial, "sign": sign},
    ]
    tune.coached = {**tune.coached, "flights": flights}
    tune.save(update_fields=("coached",))


# --- one step


def _step(tune: Tune, latest: Configuration) -> Step:
    names = dials_of(latest)
    values, entries, start = _values(latest, names), entries_of(tune), _start(tune, latest)
    fine = bool(tune.coached.get("fine"))
    blocked: dict[str, str] = {}
    while True:
        step = stepup.next_step(entries, values, start=start, fine=fine, blocked=blocked)
        reason = _held(latest, step, names) if step.kind == "raise" else ""
        if not reason:
            return step
        blocked[step.dial] = reason


def _held(latest: Configuration, step: Step, names: Mapping[str, str]) -> str:
    """Why the log is against a raise; empty where nothing is."""
    settings = core_settings(latest)
    ruling = gate_of(latest.craft, settings, apply_changes(settings, _typed(latest, step, names)))
    return "; ".join((*ruling.forbidden, *ruling.limits)[:1])


def _written(tune: Tune, latest: Configuration, step: Step) -> Slip:
    """The slip of a step. One that lowers values is a step to safety: it waits for no repair, and is kept without a flight."""
    is_safety = step.kind in ("down", "back")
    names = dials_of(latest)
    group = _GROUPS.get(step.dial, "start")
    axis = step.dial.split(".")[1] if "." in step.dial else "roll"
    text = services.SlipText(
        title=step.headline[:120], why=step.why, expect=step.then[:300],
        risk="Any bad sign: land, touch the motors with care, answer here.",
        primary_metric=f"tracking_error.{axis}", direction="lower", card_key=step.card,
        despite="A step to safety: values go down." if is_safety else "",
    )  # fmt: skip
    slip = services.make_slip(tune, group=group, text=text, values=_typed(latest, step, names))
    entry: dict[str, Any] = {"kind": step.kind, "dial": step.dial, "sign": "" if is_safety else None}
    if step.dial:
        entry |= {"before": _values(latest, names)[step.dial], "after": (step.values or {})[step.dial]}
    slip.route_step = entry
    slip.save(update_fields=("route_step",))
    if is_safety:
        services.decide(slip, Decision.Outcome.KEEP, note=step.why[:300])
    return slip


def _typed(latest: Configuration, step: Step, names: Mapping[str, str]) -> dict[str, str]:
    present = {one.name: one.value for one in core_settings(latest)}
    return {names[dial]: like(present[names[dial]], value) for dial, value in (step.values or {}).items()}


def _pending(tune: Tune) -> Slip | None:
    slip = services.open_slip(tune)
    return slip if slip is not None and slip.route_step else None


# --- settings behind the dials


def dials_of(configuration: Configuration) -> dict[str, str]:
    """The setting's name of each dial that these settings have."""
    by_key = {meaning.key: name for name, meaning in name_map(configuration.craft).items()}
    present = {one.name: number(one.value) for one in core_settings(configuration)}
    found = {}
    for dial, keys in _KEYS.items():
        name = next((by_key[key] for key in keys if key in by_key and present.get(by_key[key])), None)
        if name is not None:
            found[dial] = name
    return found


def _settings(craft: Craft) -> Configuration:
    latest = latest_configuration(craft)
    if latest is None:
        raise InputError("save the current settings first")
    if not any(dial in dials_of(latest) for dial in stepup.RAISED):
        raise InputError("none of the settings is named as P, D or gyro cutoff: name them first")
    return latest


def _values(configuration: Configuration, names: Mapping[str, str]) -> dict[str, float]:
    present = {one.name: number(one.value) for one in core_settings(configuration)}
    return {dial: value for dial, name in names.items() if (value := present.get(name)) is not None}


def _start(tune: Tune, latest: Configuration) -> dict[str, float]:
    return dict(tune.coached.get("start") or _values(latest, dials_of(latest)))


def _missing(names: Mapping[str, str]) -> list[str]:
    return [stepup.WORDS[dial] for dial in stepup.RAISED if dial not in names]


def _lines(latest: Configuration, pending: Slip | None) -> str:
    if pending is None or pending.base_configuration is None:
        return ""
    before = {one.name: one.value for one in core_settings(pending.base_configuration)}
    return "\n".join(f"{one.name} = {one.value}" for one in core_settings(latest) if before.get(one.name) != one.value)


def _table(entries: list[Entry], values: Mapping[str, float], start: Mapping[str, float]) -> list[Dial]:
    rows = []
    for dial in (*stepup.RAISED, *stepup.INTEGRAL, *stepup.TASTE):
        if dial not in values:
            continue
        highest = stepup.highest_clean(dial, entries)
        rows.append(
            Dial(
                label=stepup.WORDS[dial], start=f"{start.get(dial, values[dial]):g}", now=f"{values[dial]:g}",
                highest="" if highest is None else f"{highest:g}", state=_state(dial, entries, values, start),
            )
        )  # fmt: skip
    return rows


def _state(dial: str, entries: list[Entry], values: Mapping[str, float], start: Mapping[str, float]) -> str:
    own = [one for one in entries if one.dial == dial and one.kind in ("raise", "ask", "change")]
    if not own:
        return "not tried yet"
    if own[-1].sign is None:
        return "being flown"
    if dial not in stepup.RAISED:
        return "answered"
    bad = next((one for one in own if one.sign not in (None, CLEAN)), None)
    if bad is not None:
        return f"done: {SIGNS.get(bad.sign or '', bad.sign)} at {bad.after:g}"
    return "done: three times its start" if stepup.is_done(dial, entries, values, start) else "can rise"


# --- the log of a step


def _log(pending: Slip | None) -> tuple[Flight | None, Agreement | None]:
    """The newest analysed flight with the step's settings, and what it says of the axis."""
    if pending is None or pending.result_configuration is None:
        return None, None
    flights = list(pending.tune.craft.flights.active().filter(configuration=pending.result_configuration)[:3])
    known = [(flight, own.loop) for flight, own in by_flight(flights, "loop") if own is not None and own.loop is not None]
    if not known:
        return (flights[0] if flights else None), None
    flight, loop = known[0]
    dial = pending.route_step.get("dial", "")
    axis = dial.split(".")[1] if "." in dial else "roll"
    shown = [one.frequency_hz for one in loop.oscillations if one.axis == axis]
    found = loop.axes.get(axis)
    return flight, agreement(pending.route_step.get("sign"), axis, found.sensitivity_peak if found else None, shown)
