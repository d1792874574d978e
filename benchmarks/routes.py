"""Simulated tuners on the route by feel: flights to the end, margins that are left, tracking; writes `docs/routes.md`.

`python -m benchmarks.routes [TUNERS] [SEED]`. Each tuner flies a random craft from a sound or a poor start and answers what its
true loop makes him feel: shaking where the sensitivity peak passes what this person notices, heat where D and cutoff let too much
noise through. Nothing of the true loop reaches the route but these answers. With a logger, the gate also holds back a raise whose
peak would pass 2, as a log predicts it with 10 % error.
"""

import sys
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from benchmarks.random_craft import _scale_to, _with, random_airframe, sensitivity_peak, sound_controller, true_open_loop
from nembrit.core.routes.stepup import CLEAN, Entry, next_step
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.simulate.airframe import Airframe

REPORT = Path(__file__).parents[1] / "docs" / "routes.md"
N_TUNERS, SEED = 40, 20261202
USUAL_PEAK, MOST_FLIGHTS = 2.0, 120
HEAD = """# Routes, measured

`python -m benchmarks.routes`, {day}, {n_tuners} simulated tuners a row on random craft, seeds from {seed}, drawn once.
A third each starts with low gains, with P too high, and with filters too low. What a tuner feels comes from the true
loop and from how much this person notices (a sensitivity peak of 1.8 to 2.4, read with 5 % error). “Low margin” is a
true sensitivity peak above {peak:g}.

| logger | steps | verified | stopped | unfinished | flights (most) | final peak (90 %) | ends low | raises low | error |
|---|---|---|---|---|---|---|---|---|---|
"""
FOOT = """

*Flights* and *final peak*: median. *Ends low*: tuners with an axis at low margin at the end. *Raises low*: raises flown
at low margin, per tuner. *Error*: RMS of the tracking error from 1 to 6 Hz over the set-point, start → end.

A route by feel alone has to pass the first bad sign to know it: that flight is at low margin, and the next step leads
back by twice the step. With a logger the gate holds most of these raises back. Log first and the controller’s automatic
tune are not in this table: the first needs whole flights (see accuracy.md), the second is the controller’s.
"""
STARTS = ("low", "P too high", "filters too low")
_POINTS = 40.0  # what the starting P of roll is called


@dataclass
class Tuner:
    """One person, one craft, one start."""

    rng: np.random.Generator
    airframe: Airframe
    controller: Controller
    has_logger: bool
    fine: bool
    notices_peak: float = 0.0
    heat_limit: float = 0.0
    scale: dict[str, float] = field(default_factory=dict)
    start: dict[str, float] = field(default_factory=dict)
    values: dict[str, float] = field(default_factory=dict)
    entries: list[Entry] = field(default_factory=list)
    offered_low_margin: int = 0
    flights: int = 0
    word: str = ""

    def begin(self) -> None:
        self.notices_peak = float(self.rng.uniform(1.8, 2.4))
        self.heat_limit = float(self.rng.uniform(2.5, 4.0))
        for axis in ("roll", "pitch"):
            own = self.controller.gains[axis]
            for term, points in (("p", _POINTS), ("d", 30.0), ("i", 50.0), ("f", 20.0)):
                self.scale[f"{term}.{axis}"] = getattr(own, term) / points
                self.values[f"{term}.{axis}"] = points
        self.values["cutoff"] = round(self.controller.gyro[0].frequency_hz)
        self.start = dict(self.values)

    def flown(self, values: Mapping[str, float]) -> Controller:
        found = self.controller
        for axis in ("roll", "pitch"):
            own = {term: values[f"{term}.{axis}"] * self.scale[f"{term}.{axis}"] for term in "pdif"}
            found = replace(found, gains={**found.gains, axis: replace(found.gains[axis], **own)})
        return replace(found, gyro=(replace(found.gyro[0], frequency_hz=values["cutoff"]), *found.gyro[1:]))

    def peak(self, axis: str, values: Mapping[str, float]) -> float:
        flown = self.flown(values)
        loop = true_open_loop(self.airframe, flown, axis)[1]
        return np.inf if _encircles(loop) else sensitivity_peak(self.airframe, flown, axis)

    def feels(self, dial: str) -> str:
        axes = ("roll", "pitch") if dial == "cutoff" else (dial.split(".")[1],)
        worst = max(self.peak(axis, self.values) for axis in axes) * float(np.exp(self.rng.normal(0, 0.05)))
        if worst > self.notices_peak:
            return "shake"
        if self.has_logger and self._measured(axes) > USUAL_PEAK:
            return "log"
        noise = max(self.values[f"d.{axis}"] / self.start[f"d.{axis}"] for axis in axes)
        noise *= (self.values["cutoff"] / self.start["cutoff"]) ** 1.5
        return "hot" if noise > self.heat_limit else CLEAN

    def _measured(self, axes: Iterable[str]) -> float:
        """The worst sensitivity peak of a flight's log."""
        return max(self.peak(axis, self.values) for axis in axes) * float(np.exp(self.rng.normal(0, 0.1)))

    def fly(self) -> None:
        blocked: dict[str, str] = {}
        while self.flights < MOST_FLIGHTS:
            step = next_step(self.entries, self.values, start=self.start, fine=self.fine, blocked=blocked)
            if step.kind in ("verify", "stop"):
                self.word = step.kind
                return
            wanted = {**self.values, **(step.values or {})}
            if step.kind == "raise":
                peaks = [self.peak(axis, wanted) for axis in ("roll", "pitch")]
                told = max(peaks) * float(np.exp(self.rng.normal(0, 0.1)))
                if self.has_logger and told > USUAL_PEAK:
                    blocked[step.dial] = "the log"
                    continue
                self.offered_low_margin += max(peaks) > USUAL_PEAK
            before = self.values.get(step.dial, 0.0)
            self.values = wanted
            self.flights += step.kind not in ("back", "down")
            self.entries.append(
                Entry(
                    kind=step.kind,
                    dial=step.dial,
                    before=before,
                    after=self.values.get(step.dial, 0.0),
                    sign=self._sign(step.kind, step.dial),
                )
            )
        self.word = "unfinished"

    def _sign(self, kind: str, dial: str) -> str:
        if kind in ("back", "down"):
            return ""
        if kind == "hover":
            worst = max(self.peak(axis, self.values) for axis in ("roll", "pitch"))
            if worst > 4:
                return "unflyable"
            is_rough = worst > self.notices_peak or (self.has_logger and self._measured(("roll", "pitch")) > USUAL_PEAK)
            return "rough" if is_rough else "flyable"
        if dial.startswith("i."):
            return "neither"
        return "fine" if dial.startswith("f.") else self.feels(dial)

    def tracking(self, values: Mapping[str, float]) -> float:
        """RMS of the error over the set-point from 1 to 6 Hz, the mean of roll and pitch."""
        found = []
        for axis in ("roll", "pitch"):
            hz, loop = true_open_loop(self.airframe, self.flown(values), axis)
            use = hz <= 6.0
            found.append(float(np.sqrt(np.mean(np.abs(1 / (1 + loop[use])) ** 2))))
        return float(np.mean(found))


def _encircles(loop: np.ndarray) -> bool:
    """Whether the open loop passes beyond −1: its phase crosses −180° with a size above 1."""
    phase = np.unwrap(np.angle(loop))
    crossing = np.flatnonzero((phase[:-1] > -np.pi) & (phase[1:] <= -np.pi))
    return bool(np.any(np.abs(loop[crossing]) > 1))


def tuner_of(seed: int, start: str, *, has_logger: bool, fine: bool) -> Tuner:
    """A craft whose gains are low, or poor in one way, and a person."""
    rng = np.random.default_rng(seed)
    _, airframe = random_airframe(rng)
    controller = sound_controller(airframe, rng)
    controller = replace(controller, gyro=(Filter(kind="lowpass_2", frequency_hz=float(rng.uniform(110, 220))),))
    wanted = float(rng.uniform(1.2, 1.35)) if start == "low" else float(rng.uniform(2.2, 4.5)) if start == "P too high" else 1.4
    for axis in ("roll", "pitch"):
        p_alone = start == "P too high"

        def peak_at(factor: float, axis: str = axis, p_alone: bool = p_alone, own: Controller = controller) -> float:
            more = {"p": factor} if p_alone else {"p": factor, "i": factor, "d": factor}
            changed = _with(own, axis, **more)
            loop = true_open_loop(airframe, changed, axis)[1]
            return np.inf if _encircles(loop) else sensitivity_peak(airframe, changed, axis)

        factor = _scale_to(peak_at, wanted, 3.0)
        controller = _with(controller, axis, **({"p": factor} if p_alone else {"p": factor, "i": factor, "d": factor}))
    if start == "filters too low":
        controller = replace(controller, gyro=(replace(controller.gyro[0], frequency_hz=70.0),))
    made = Tuner(rng=rng, airframe=airframe, controller=controller, has_logger=has_logger, fine=fine)
    made.begin()
    return made


def run(n_tuners: int, seed: int) -> str:
    rows = []
    for has_logger in (False, True):
        for fine in (False, True):
            tuners = [
                tuner_of(seed + number, STARTS[number % len(STARTS)], has_logger=has_logger, fine=fine)
                for number in range(n_tuners)
            ]
            for one in tuners:
                one.fly()
            rows.append(_row(tuners, has_logger, fine))
    day = datetime.now(UTC).strftime("%d %B %Y").lstrip("0")
    return HEAD.format(day=day, n_tuners=n_tuners, seed=seed, peak=USUAL_PEAK) + "\n".join(rows) + FOOT


def _row(tuners: list[Tuner], has_logger: bool, fine: bool) -> str:
    done = [one for one in tuners if one.word == "verify"]
    peaks = np.array([max(one.peak(axis, one.values) for axis in ("roll", "pitch")) for one in done])
    flights = np.array([one.flights for one in done])
    words = [sum(one.word == word for one in tuners) for word in ("verify", "stop", "unfinished")]
    before, after = (np.mean([one.tracking(values(one)) for one in done]) for values in (lambda o: o.start, lambda o: o.values))
    cells = (
        "yes" if has_logger else "no", "fine" if fine else "usual", f"{words[0]} of {len(tuners)}", words[1], words[2],
        f"{np.median(flights):.0f} ({flights.max()})", f"{np.median(peaks):.2f} ({np.quantile(peaks, 0.9):.2f})",
        int((peaks > USUAL_PEAK).sum()), f"{np.mean([one.offered_low_margin for one in tuners]):.1f}",
        f"{before:.2f} → {after:.2f}",
    )  # fmt: skip
    return "| " + " | ".join(str(one) for one in cells) + " |"


if __name__ == "__main__":
    given = [int(one) for one in sys.argv[1:]]
    text = run(given[0] if given else N_TUNERS, given[1] if len(given) > 1 else SEED)
    REPORT.write_text(text, encoding="utf-8")
    print(text)
