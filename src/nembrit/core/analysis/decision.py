"""The one decision after a flight: the next change, repair or flight, chosen in a fixed order of what matters most.

Safety, then mechanics, then the stability margin, then heat, then I and idle, then speed. At most one change, and only one that
passes the gate on all axes together; what fails it gives way to the next candidate, in the end to a flight that would tell more.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.causes.finding import Finding
from nembrit.core.errors import NotEnoughData
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.asks import ask_of
from nembrit.core.tuning.best import Limits, limits_for
from nembrit.core.tuning.design import best_chain, lag_of, motor_rms_of, target_for
from nembrit.core.tuning.gate import MOST_PEAK
from nembrit.core.tuning.repairs import repair_for
from nembrit.core.tuning.whatif import Change, Predicted
from nembrit.core.types import AXES

CHANGE, REPAIR, FLY, NAME, VERIFY = "change", "repair", "fly", "name", "verify"
# ranks, most important first: a craft without any of the first four may stay as it is
MECHANICS, MARGIN, HEAT, BALANCE, COMFORT = "mechanics", "margin", "heat", "balance", "comfort"
MEASURING_CARD, LONG_CARD = "response", "full"
_MOST_BESIDE = 2  # further changes that are named beside the first
_HOT = 1.15  # motor noise over its target from where on filters come before gains
_WORTH_LESS_NOISE, _WORTH_FASTER, _WORTH_EARLIER_DEG = 0.9, 0.95, 2.0  # a change that wins less is none
_LESS_D, _WORTH_LESS_BY_D, _NEARLY = 0.8, 0.95, 1.05
_FILTER_WORDS = {"gyro_filters": "gyro filters", "d_filters": "D filters"}
_ABOUT_FILTERS = ("d_noise", "filters_open", "filters_low")
_OF_FILTERS = {"gyro_filters": frozenset({"d_term"}), "d_filters": frozenset({"gyro", "notches"})}


@dataclass(frozen=True, slots=True, kw_only=True)
class Decision:
    """What to do next, and why. `ratios` are by axis and term; `chains` the filters of a change of filters."""

    kind: str
    why: str  # one sentence
    rank: str | None = None
    group: str | None = None
    ratios: dict[str, dict[str, float]] = field(default_factory=dict)
    idle_ratio: float | None = None
    chains: Controller | None = None
    part: str | None = None
    card: str | None = None
    axis: str | None = None
    code: str | None = None  # of the finding that it answers
    alternatives: tuple["Decision", ...] = ()

    @property
    def change(self) -> Change:
        return Change(gains=self.ratios, chains=self.chains)

    @property
    def is_comfort(self) -> bool:
        """Whether the craft may as well stay as it is."""
        return self.rank == COMFORT


def decide(
    findings: Sequence[Finding],
    bench: Choosing,
    *,
    diameter_in: float,
    caution: str = "usual",
    is_latest: bool = True,
    card: str = "",
) -> Decision:
    """The next step after a flight.

    Parameters
    ----------
    findings : sequence of Finding
        Of the flight, most important first.
    bench : Choosing
        The flight with the settings that it flew.
    diameter_in : float
        Of the propellers: larger ones stand less motor noise.
    caution : str
        A key of `CAUTIONS`.
    is_latest : bool
        Whether the flight flew the craft's latest settings.
    card : str
        The card that the flight flew: the same is not advised again without saying what to do differently.

    Returns
    -------
    Decision
        With at most two further candidates that passed the gate as its alternatives.
    """
    if not is_latest:
        return Decision(kind=FLY, card=MEASURING_CARD, why="Fly the latest settings first.")
    held = next((one for one in findings if one.holds_gains_back), None)
    if held is not None:
        repair = repair_for([held])
        part = repair.part if repair else None
        return Decision(
            kind=REPAIR, rank=MECHANICS, part=part, code=held.code, axis=held.axis, why=f"Mechanics first: {held.summary}"
        )  # fmt: skip
    target = target_for(caution, diameter_in)
    wanted = (one for one in _candidates(findings, bench, target, caution) if _is_open(one, bench, target))
    passed = list(islice(wanted, 1 + _MOST_BESIDE))
    if passed:
        first, *others = passed
        return replace(first, alternatives=tuple(others))
    return _without_change(findings, bench, target, card)


def _without_change(findings: Sequence[Finding], bench: Choosing, target: float, card: str) -> Decision:
    """What leads on where no change passed: settings that have to be named, a flight that tells more, or verifying."""
    # filters that no better chain was found for are what noise and margins ask for
    settled = _ABOUT_FILTERS if bench.flown is not None and _loops(bench) else ()
    faults = [one for one in findings if one.severity in ("act", "stop") and one.code not in settled]
    if bench.flown is None and any(one.code in _ABOUT_FILTERS for one in faults):
        fault = next(one for one in faults if one.code in _ABOUT_FILTERS)
        return Decision(
            kind=NAME, rank=HEAT, code=fault.code,
            why=f"{fault.summary.rstrip('.')}. Its filters are unknown: save the settings and name them.",
        )  # fmt: skip
    measured = [axis for axis in AXES[:2] if axis in _loops(bench)]
    if not measured:
        return Decision(kind=FLY, card=MEASURING_CARD, why=_unmeasured(bench, card))
    open_axes = [axis for axis in measured if _loops(bench)[axis].sensitivity_peak.high > MOST_PEAK]
    worst = max(open_axes, key=lambda one: _loops(bench)[one].sensitivity_peak.high, default=None)
    if worst is not None and (card != LONG_CARD or _loops(bench)[worst].sensitivity_peak.value > MOST_PEAK):
        return _measure_again(worst, bench, card)
    if faults:
        return Decision(
            kind=FLY, card=MEASURING_CARD, code=faults[0].code,
            why=f"{faults[0].summary.rstrip('.')}. No safe change could be predicted: {_again(card, 'short, quick inputs')}, "
            "close and low.",
        )  # fmt: skip
    return Decision(kind=VERIFY, why=f"Nothing to change: {_as_it_is(bench, target, worst)} Verify it.")


def _measure_again(axis: str, bench: Choosing, card: str) -> Decision:
    """An axis whose margin the flight leaves open: the measuring card, then the long one, which narrows it."""
    peak = _loops(bench)[axis].sensitivity_peak
    how = _again(card, f"quicker inputs in {axis}") if card != MEASURING_CARD else "fly the full card, which measures it longer"
    return Decision(
        kind=FLY, card=LONG_CARD if card == MEASURING_CARD else MEASURING_CARD, axis=axis,
        rank=MARGIN if peak.value > MOST_PEAK else None,
        why=f"{axis.capitalize()}’s sensitivity peak is too uncertain ({peak.low:.1f} to {peak.high:.1f}): {how}.",
    )  # fmt: skip


def _as_it_is(bench: Choosing, target: float, open_axis: str | None) -> str:
    """How margins and motor noise stand where nothing better was found."""
    measured = bench.shaping.roughness_ratio if bench.shaping else None
    if open_axis is not None:
        peak = _loops(bench)[open_axis].sensitivity_peak
        margins = (
            f"{open_axis}’s sensitivity peak is most likely within its limit ({peak.low:.1f} to {peak.high:.1f}, 2 is the limit)"
        )
    else:
        margins = "the margins are within their limits"
    if measured is not None and measured > _HOT * target:
        return (
            f"{margins}. Motor noise stays at {100 * measured:.2g} % ({100 * target:.2g} % is the target): no filters that the "
            "margins allow would leave clearly less."
        )
    return f"{margins}, and so {'are' if open_axis is None else 'is'} motor noise and speed."


def _unmeasured(bench: Choosing, card: str) -> str:
    """Why neither roll nor pitch could be measured, and what measures them."""
    reason = next((bench.loop.reasons[axis] for axis in AXES[:2] if axis in bench.loop.reasons), "") if bench.loop else ""
    told = f" ({reason.rstrip('.')})" if reason else ""
    return f"Neither roll’s nor pitch’s loop could be measured{told}: {_again(card, 'short, quick inputs in roll and pitch')}."


def _again(card: str, how: str) -> str:
    return f"fly the half-minute card again with {how}" if card == MEASURING_CARD else f"fly the half-minute card with {how}"


def _loops(bench: Choosing) -> Mapping[str, AxisLoop]:
    return bench.loop.axes if bench.loop else {}


def _is_open(one: Decision, bench: Choosing, target: float) -> bool:
    if one.idle_ratio is not None or not _loops(bench):
        return True
    stands = bench.ruling(one.change, target_rms=target)
    return stands.is_open


def _candidates(findings: Sequence[Finding], bench: Choosing, target: float, caution: str) -> Iterator[Decision]:
    """Changes in order of what matters most."""
    room = _motor_room(bench, target)
    yield from _margins(bench, caution)
    yield from _of_finding(findings, ("oscillation", "p_high"), MARGIN)
    yield from _heat(findings, bench, target)
    yield from _of_finding(findings, ("i_low", "idle_low"), BALANCE)
    yield from _lag(findings, bench, target)
    yield from _speed(bench, limits_for(caution, room))


def _margins(bench: Choosing, caution: str) -> Iterator[Decision]:
    """Axes whose sensitivity peak is above 2, the worst first: P down by up to a fifth, D as it is."""
    low = {axis: own.sensitivity_peak.value for axis, own in _loops(bench).items() if own.sensitivity_peak.value > MOST_PEAK}
    for axis in sorted(low, key=lambda one: -low[one]):
        best = bench.best(axis, limits_for(caution, 1.0))
        if best.is_change and best.p < 1:
            terms = {term: ratio for term, ratio in (("p", best.p), ("d", best.d)) if abs(ratio - 1) > 1e-6}
            yield Decision(
                kind=CHANGE, rank=MARGIN, group=f"pd.{axis}", axis=axis, ratios={axis: terms},
                why=f"{axis.capitalize()} is close to oscillation (sensitivity peak {low[axis]:.1f}): P down by "
                f"{1 - best.p:.0%}{', D as it is' if 'd' not in terms else ''}.",
            )  # fmt: skip


def _of_finding(findings: Sequence[Finding], codes: tuple[str, ...], rank: str) -> Iterator[Decision]:
    for one in findings:
        ask = ask_of(one.code, one.axis, one.causes) if one.code in codes and one.severity != "info" else None
        if ask is not None:
            yield Decision(
                kind=CHANGE, rank=rank, group=ask.group, axis=ask.axis or None, ratios=_copied(ask.ratios),
                idle_ratio=ask.idle_ratio, code=one.code,
                why=f"{one.highlight}: {ask.words}.",
            )  # fmt: skip


def _copied(ratios: Mapping[str, Mapping[str, float]]) -> dict[str, dict[str, float]]:
    return {axis: dict(terms) for axis, terms in ratios.items()}


def _heat(findings: Sequence[Finding], bench: Choosing, target: float) -> Iterator[Decision]:
    """Motors that are moved by noise beyond the target: filters that keep more of it out, as far as the margins allow; else
    less D, where D brings it.
    """
    measured = bench.shaping.roughness_ratio if bench.shaping else None
    asked = [one.code for one in findings if one.code in ("d_noise", "filters_open") and one.severity != "info"]
    if (measured is not None and measured < _HOT * target) or (measured is None and not asked):
        return
    code = asked[0] if asked else None
    told = "" if measured is None else f"Motor noise is {100 * measured:.2g} % ({100 * target:.2g} % is the target): "
    for group, (chains, ratio) in _chains_by_worth(bench, target):
        if ratio <= _WORTH_LESS_NOISE:
            yield Decision(
                kind=CHANGE, rank=HEAT, group=group, chains=chains, code=code,
                why=_capital(f"{told}these {_FILTER_WORDS[group]} would leave {ratio:.0%} of it."),
            )  # fmt: skip
    if "d_noise" not in asked:
        return
    for axis in AXES[:2]:
        ratios = {axis: {"d": _LESS_D}}
        ratio = bench.motor_ratio(Change(gains=ratios))
        if ratio <= _WORTH_LESS_BY_D:
            yield Decision(
                kind=CHANGE, rank=HEAT, group=f"pd.{axis}", axis=axis, ratios=ratios, code="d_noise",
                why=_capital(f"{told}D of {axis} down by {1 - _LESS_D:.0%} would leave {ratio:.0%} of it."),
            )  # fmt: skip


def _chains_by_worth(bench: Choosing, target: float) -> list[tuple[str, tuple[Controller, float]]]:
    """The advised chain of either group with the motor noise that it leaves: those that meet the target first, then less lag."""
    found = []
    measured = bench.shaping.roughness_ratio if bench.shaping else None
    # where the whole way would cost too much margin, half of it in one step
    aims = (target, math.sqrt(target * measured)) if measured is not None and measured > target else (target,)
    for group in _OF_FILTERS:
        chains = (chain for aim in aims if (chain := _chain(bench, group, aim)) is not None)
        chain = next((one for one in chains if bench.ruling(Change(chains=one[0]), target_rms=target).is_open), None)
        if chain is not None:
            task = bench.task(_OF_FILTERS[group])
            found.append((motor_rms_of(task, chain[0]) > _NEARLY * target, lag_of(task, chain[0]), group, chain))
    return [(group, chain) for _, _, group, chain in sorted(found, key=lambda one: one[:2])]


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _lag(findings: Sequence[Finding], bench: Choosing, target: float) -> Iterator[Decision]:
    """Filters that are later than they need to be, where the log says so and the motors stay as cool."""
    if not any(one.code == "filters_low" and one.severity != "info" for one in findings):
        return
    found = _chain(bench, "gyro_filters", target)
    if found is None:
        return
    chains, ratio = found
    task = bench.task(_OF_FILTERS["gyro_filters"])
    saved_deg = lag_of(task, task.flown) - lag_of(task, chains)
    if saved_deg >= _WORTH_EARLIER_DEG and ratio <= _motor_room(bench, target) + 1e-6:
        yield Decision(
            kind=CHANGE, rank=COMFORT, group="gyro_filters", chains=chains, code="filters_low",
            why=f"The gyro filters are slower than this noise needs: the proposed ones save {saved_deg:.0f}° of lag "
                f"at the crossover.",
        )  # fmt: skip


def _chain(bench: Choosing, group: str, target: float) -> tuple[Controller, float] | None:
    """The advised chain of one group, and the motor noise that it leaves over the flown one."""
    try:
        task = bench.task(_OF_FILTERS[group])
    except NotEnoughData:
        return None
    design = best_chain(task, target)
    if design.chains == bench.known or design.lag_deg > task.most_lag_deg + 0.01:
        return None
    return design.chains, bench.motor_ratio(Change(chains=design.chains))


def _motor_room(bench: Choosing, target: float) -> float:
    """How much more motor noise the target leaves, as a ratio to the flown one."""
    measured = bench.shaping.roughness_ratio if bench.shaping else None
    return max(1.0, target / measured) if measured else 1.0


def _speed(bench: Choosing, limits: Limits) -> Iterator[Decision]:
    """The axis that gains most from the fastest P and D within the limits."""
    won: list[tuple[float, Decision]] = []
    for axis in AXES[:2]:
        own = _loops(bench).get(axis)
        if own is None or own.rise_time_s is None:
            continue
        best = bench.best(axis, limits)
        becomes: Predicted = best.predicted
        if not best.is_change or becomes.rise_time_s is None or best.left_open:
            continue
        ratio = becomes.rise_time_s.value / own.rise_time_s.value
        if ratio <= _WORTH_FASTER:
            decision = Decision(
                kind=CHANGE, rank=COMFORT, group=f"pd.{axis}", axis=axis, ratios={axis: {"p": best.p, "d": best.d}},
                why=f"{axis.capitalize()} has margin to spare: its rise time could be {1000 * becomes.rise_time_s.value:.0f} ms "
                f"instead of {1000 * own.rise_time_s.value:.0f} ms.",
            )  # fmt: skip
            won.append((ratio, decision))
    yield from (decision for _, decision in sorted(won, key=lambda pair: pair[0]))
