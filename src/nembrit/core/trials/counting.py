"""Which flights count in a trial, and why the others do not."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.trials.plan import Plan

COUNTS, SPARE, APART, SUGGESTED, LEFT_OUT, TWICE = "counts", "spare", "apart", "suggested", "left_out", "twice"
_RATE_RATIO = 1.6  # rates further apart make numbers that are not the same (common practice, no source)
_SHORT_RATIO = 0.6  # of the card
_LEAST_WINDOW_S = 10.0
_CHANNELS = {"gyro_raw": "raw", "gyro": "filtered"}
_SAME_RATIO, _LEAST_SHARED = 1e-5, 4  # metrics that agree so well, and so many of them, are the same samples


@dataclass(frozen=True, slots=True, kw_only=True)
class FlownFlight:
    """What decides whether a flight counts; flights come in the order flown."""

    number: int
    is_after: bool
    metrics: dict[str, float]
    errors: dict[str, float] = field(default_factory=dict)  # standard errors of those that a flight measures with one
    window_s: float = 60.0
    card_s: float | None = None  # how long the card takes
    is_simulated: bool = False
    noise_channel: str = "gyro_raw"
    sample_rate_hz: float = 2000.0
    fault: str = ""  # a mechanical or electrical finding that asks for action
    ended: str = ""  # aborted, crashed
    is_cause: bool = False  # its finding led to this very change
    is_too_early: bool = False  # by its time it was flown before the change that it should judge was written
    copy_of: int | None = None  # number of an earlier flight whose samples these are, cut or written anew
    chosen: str = ""  # in, out: what the tuner answered; empty: nothing
    chosen_why: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """How one flight stands in a trial. `by_rule` is whether it would count if nobody had answered anything."""

    flight: FlownFlight
    state: str
    why: str = ""
    by_rule: bool = False

    @property
    def counts(self) -> bool:
        return self.state == COUNTS

    @property
    def is_open(self) -> bool:
        """A suggestion that waits for an answer."""
        return self.state == SUGGESTED


@dataclass(slots=True)
class _Side:
    """Flights of one side that were taken so far."""

    taken: int = 0
    by_rule: int = 0
    seen: list[FlownFlight] = field(default_factory=list)


def standings(flights: Sequence[FlownFlight], plan: Plan, *, is_repair: bool = False) -> list[Standing]:
    """Every flight of both sides with whether it counts, in the order flown.

    Before the change the newest flights count, after it the first ones, as many as the plan says: none is chosen by what it
    showed. A repair's flights before it may well carry the fault that is repaired.
    """
    total = plan.totals[-1]
    is_simulated, channel, rate_hz = _common(flights, plan.primary.metric)
    found: dict[int, Standing] = {}
    sides = {False: _Side(), True: _Side()}
    for flight in _by_claim(flights, plan):
        side = sides[flight.is_after]
        apart = _apart(flight, is_simulated, channel, rate_hz, plan.primary.metric)
        seen = (*sides[False].seen, *sides[True].seen)
        twin = next((one for one in seen if _is_same(one, flight) or _is_copy(one, flight)), None)
        if apart:
            found[flight.number] = Standing(flight=flight, state=APART, why=apart)
            continue
        if twin:
            what = "the same samples as" if _is_same(twin, flight) else "a part or another copy of"
            found[flight.number] = Standing(flight=flight, state=TWICE, why=f"{what} flight {twin.number}: counted once")
            continue
        side.seen.append(flight)
        suggestion = _suggestion(flight, is_repair=is_repair)
        by_rule = not suggestion and side.by_rule < total
        side.by_rule += by_rule
        if flight.chosen == "out":
            found[flight.number] = Standing(flight=flight, state=LEFT_OUT, why=suggestion or flight.chosen_why, by_rule=by_rule)
        elif suggestion and flight.chosen != "in":
            found[flight.number] = Standing(flight=flight, state=SUGGESTED, why=suggestion)
        elif side.taken >= total:
            found[flight.number] = Standing(flight=flight, state=SPARE, why="beyond the planned number", by_rule=by_rule)
        else:
            side.taken += 1
            found[flight.number] = Standing(
                flight=flight, state=COUNTS, why=suggestion and f"used although {suggestion}", by_rule=by_rule
            )
    return [found[flight.number] for flight in flights]


def ruled(standing: Sequence[Standing]) -> list[FlownFlight]:
    """The flights that count when nobody answers anything: what a verdict must hold for, too."""
    return [one.flight for one in standing if one.by_rule]


def unlike(measured: Mapping[int, tuple[str, float]]) -> dict[int, str]:
    """Of numbers with the gyro they were measured on and the log rate [Hz], those that are others than most, and why.

    >>> unlike({1: ("gyro_raw", 2000.0), 2: ("gyro_raw", 2000.0), 3: ("gyro", 2000.0), 4: ("gyro_raw", 500.0)})
    {3: 'filtered gyro', 4: 'at 500 Hz'}
    """
    heard = {key: own for key, own in measured.items() if own[0]}
    if not heard:
        return {}
    channel, common_hz = _usual(list(heard.values()))
    found = {}
    for key, (own, rate_hz) in heard.items():
        told = [f"{_CHANNELS.get(own, 'other')} gyro"] if own != channel else []
        told += [] if _is_near(rate_hz, common_hz) else [f"at {rate_hz:.0f} Hz"]
        if told:
            found[key] = ", ".join(told)
    return found


def _by_claim(flights: Sequence[FlownFlight], plan: Plan) -> list[FlownFlight]:
    """In the order in which flights are taken: newest before first; alternating ones as they were flown."""
    first_after = next((k for k, flight in enumerate(flights) if flight.is_after), len(flights))
    earlier = [flight for flight in flights[:first_after] if not flight.is_after]
    later = list(flights[first_after:])
    if plan.order == "free":
        return [*reversed(earlier), *later]
    began = max(0, len(earlier) - (2 if plan.order == "blocks" else 1))  # an order begins with one or two flights before
    return [*earlier[began:], *later, *reversed(earlier[:began])]


def _common(flights: Sequence[FlownFlight], metric: str) -> tuple[bool, str, float]:
    """What most flights have in common: where they were flown, the channel of their noise, their log rate."""
    worlds = Counter(flight.is_simulated for flight in flights)
    on_both = [world for world in worlds if len({flight.is_after for flight in flights if flight.is_simulated == world}) == 2]
    is_simulated = max(on_both or worlds or [False], key=lambda world: (worlds[world], not world))
    alike = [flight for flight in flights if flight.is_simulated == is_simulated and metric in flight.metrics]
    if not alike:
        return is_simulated, "", 0.0
    return is_simulated, *_usual([(flight.noise_channel, flight.sample_rate_hz) for flight in alike])


def _usual(measured: Sequence[tuple[str, float]]) -> tuple[str, float]:
    """The gyro that most were measured on, and the log rate [Hz] that most of those are near to."""
    channel = Counter(own for own, _ in measured).most_common(1)[0][0]
    rates = [rate_hz for own, rate_hz in measured if own == channel]
    return channel, max(rates, key=lambda rate_hz: sum(_is_near(rate_hz, other) for other in rates))


def _apart(flight: FlownFlight, is_simulated: bool, channel: str, rate_hz: float, metric: str) -> str:
    """Why a flight's number is another number than the others', or nothing."""
    if flight.is_cause:
        return "this flight led to the change: choosing it for its result would bias the verdict"
    if flight.is_simulated != is_simulated:
        here, there = ("in the simulator", "outside") if flight.is_simulated else ("outside", "in the simulator")
        return f"flown {here}, the others {there}"
    if metric not in flight.metrics:
        return "the judging metric could not be measured in this flight"
    if metric.split(".")[0].endswith("_noise") and flight.noise_channel != channel:
        here, there = _CHANNELS.get(flight.noise_channel, "other"), _CHANNELS.get(channel, "other")
        return f"only {here} gyro, the others {there}: another number"
    if not _is_near(flight.sample_rate_hz, rate_hz):
        return f"logged at {flight.sample_rate_hz:.0f} Hz, the others at {rate_hz:.0f} Hz: another number"
    least_s = _LEAST_WINDOW_S if flight.card_s is None else _SHORT_RATIO * flight.card_s
    if flight.window_s < least_s:
        whole = "" if flight.card_s is None else f" of a card of {flight.card_s:.0f} s"
        return f"only {flight.window_s:.0f} s are usable{whole}"
    return ""


def _suggestion(flight: FlownFlight, *, is_repair: bool) -> str:
    """Why a flight should be left out, or nothing."""
    if flight.ended:
        return f"it {flight.ended}"
    if flight.is_too_early and flight.is_after:
        return "its time is before this change was written"
    if flight.fault and not (is_repair and not flight.is_after):
        return f"it flew with a fault: {flight.fault}"
    return ""


def _is_near(one_hz: float, other_hz: float) -> bool:
    return max(one_hz, other_hz) <= _RATE_RATIO * min(one_hz, other_hz)


def _is_copy(one: FlownFlight, other: FlownFlight) -> bool:
    """Whether both are copies of one flight, which may itself stand on neither side."""
    return (None not in (one.copy_of, other.copy_of) and one.copy_of == other.copy_of) or (
        one.number == other.copy_of or other.number == one.copy_of
    )


def _is_same(one: FlownFlight, other: FlownFlight) -> bool:
    shared = one.metrics.keys() & other.metrics.keys()
    return len(shared) >= _LEAST_SHARED and all(
        abs(one.metrics[name] - other.metrics[name]) <= _SAME_RATIO * abs(other.metrics[name]) for name in shared
    )
