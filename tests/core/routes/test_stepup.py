"""Step up by feel, against hand-written tables of the trade (common practice, no source)."""

from collections.abc import Sequence

import pytest

from nembrit.core.routes.stepup import CLEAN, CYCLE, Entry, Step, highest_clean, is_done, next_step, step_size

START = {"p.roll": 40.0, "d.roll": 30.0, "p.pitch": 44.0, "d.pitch": 32.0, "cutoff": 80.0,
         "i.roll": 50.0, "i.pitch": 50.0, "f.roll": 20.0, "f.pitch": 20.0}  # fmt: skip
FLYABLE = Entry(kind="hover", sign="flyable")


class Pilot:
    """Flies a route to its end: what it feels depends on the values alone."""

    def __init__(self, limits: dict[str, float], start: dict[str, float] = START, *, fine: bool = False) -> None:
        self.limits, self.start, self.fine = limits, start, fine
        self.values, self.entries, self.steps = dict(start), [], []

    def step(self) -> Step:
        return next_step(self.entries, self.values, start=self.start, fine=self.fine)

    def fly(self, most: int = 200) -> Step:
        for _ in range(most):
            step = self.step()
            self.steps.append(step)
            if step.kind in ("verify", "stop"):
                return step
            self._do(step)
        raise AssertionError("the route does not end")

    def _do(self, step: Step) -> None:
        if step.kind == "hover":
            shakes = any(self.values[dial] > self.limits.get(dial, 1e9) for dial in self.values)
            self.entries.append(Entry(kind="hover", sign="unflyable" if shakes else "flyable"))
            return
        new = dict(step.values or {})
        dial = step.dial
        before = self.values.get(dial, 0.0)
        self.values |= new
        sign = "" if step.kind in ("down", "back") else self._felt(dial)
        self.entries.append(Entry(kind=step.kind, dial=dial, before=before, after=self.values.get(dial, 0.0), sign=sign))

    def _felt(self, dial: str) -> str:
        if dial.startswith("i."):
            value = self.values[dial]
            return "descent" if value > 60 else "hover" if value < 55 else "neither"
        if dial.startswith("f."):
            return "fine"
        return "buzz" if self.values[dial] > self.limits.get(dial, 1e9) else CLEAN


@pytest.mark.parametrize(
    ("start", "fine", "size"),
    [(45, False, 5), (45, True, 2), (100, False, 5), (101, False, 10), (208, False, 21), (208, True, 8.3), (0.5, False, 0.05),
     (7, False, 0.7), (44.5, False, 4.5)],
)  # fmt: skip
def test_a_step_is_five_points_of_a_hundred_or_the_same_share(start: float, fine: bool, size: float) -> None:
    assert step_size(start, fine=fine) == pytest.approx(size, rel=0.02)


def test_values_are_raised_in_turn_the_cutoff_every_third_flight() -> None:
    pilot = Pilot({})
    raised = []
    for _ in range(13):
        step = pilot.step()
        raised += [step.dial] if step.kind == "raise" else []
        pilot._do(step)
    assert raised == [*CYCLE, *CYCLE]
    assert raised[2::3] == ["cutoff"] * 4


@pytest.mark.parametrize(
    ("entries", "kind", "dial", "value"),
    [
        ([], "hover", "", None),
        ([Entry(kind="hover", sign="unflyable")], "down", "", 30.0),
        ([Entry(kind="hover", sign="unflyable"), Entry(kind="down", sign="")], "hover", "", None),
        ([FLYABLE], "raise", "p.roll", 45.0),
        ([FLYABLE, Entry(kind="raise", dial="p.roll", before=40, after=45)], "answer", "p.roll", None),
        ([FLYABLE, Entry(kind="raise", dial="p.roll", before=40, after=45, sign="hot")], "back", "p.roll", 35.0),
        ([FLYABLE, Entry(kind="raise", dial="p.roll", before=40, after=45, sign=CLEAN)], "raise", "d.roll", 35.0),
        ([FLYABLE, Entry(kind="raise", dial="d.roll", before=30, after=35, sign="shake"),
          Entry(kind="back", dial="d.roll", before=35, after=25, sign="")], "check", "d.roll", None),
        ([FLYABLE, Entry(kind="raise", dial="d.roll", before=25, after=30, sign=CLEAN),
          Entry(kind="raise", dial="d.roll", before=30, after=35, sign="shake"),
          Entry(kind="back", dial="d.roll", before=35, after=25, sign="")], "raise", "cutoff", 85.0),
        ([FLYABLE, Entry(kind="raise", dial="p.roll", before=40, after=45, sign="hot"),
          Entry(kind="back", dial="p.roll", before=45, after=35, sign=""), Entry(kind="check", dial="p.roll", sign="hot")],
         "back", "p.roll", 30.0),
        ([FLYABLE, Entry(kind="raise", dial="p.roll", before=40, after=45, sign="hot"),
          Entry(kind="back", dial="p.roll", before=45, after=35, sign=""), Entry(kind="check", dial="p.roll", sign=CLEAN)],
         "raise", "d.roll", 35.0),
        ([Entry(kind="hover", sign="rough")], "down", "", 30.0),
    ],
)  # fmt: skip
def test_the_next_step_follows_from_the_ledger_alone(entries: Sequence[Entry], kind: str, dial: str, value: float | None) -> None:
    step = next_step(entries, START, start=START)
    assert (step.kind, step.dial) == (kind, dial)
    if value is not None:
        assert (step.values or {})[dial or "p.roll"] == value
    assert step.why
    assert step.then
    assert step == next_step(list(entries), dict(START), start=START)  # nothing else matters


def test_a_route_ends_just_below_the_first_bad_sign_of_each_value() -> None:
    limits = {"p.roll": 62.0, "d.roll": 47.0, "p.pitch": 66.0, "d.pitch": 40.0, "cutoff": 120.0}
    pilot = Pilot(limits)
    assert pilot.fly().kind == "verify"
    for dial, limit in limits.items():
        assert is_done(dial, pilot.entries, pilot.values, START)
        assert limit - 11 <= pilot.values[dial] <= limit  # twice a step below what showed it
        assert highest_clean(dial, pilot.entries) <= limit
    assert pilot.values["i.roll"] == 55.0
    raises = [one for one in pilot.entries if one.kind == "raise"]
    assert all(one.after - one.before <= 5 for one in raises)


def test_fine_steps_come_nearer_and_take_more_flights() -> None:
    limits = {"p.roll": 62.0, "d.roll": 47.0, "p.pitch": 66.0, "d.pitch": 40.0, "cutoff": 120.0}
    coarse, fine = Pilot(limits), Pilot(limits, fine=True)
    coarse.fly(), fine.fly()
    assert len(fine.entries) > len(coarse.entries)
    assert all(limits[dial] - 5 <= fine.values[dial] <= limits[dial] for dial in limits)


def test_what_cannot_be_flown_goes_down_and_then_stops() -> None:
    pilot = Pilot({"p.roll": 25.0})
    pilot.fly()
    assert [one.kind for one in pilot.steps][:5] == ["hover", "down", "hover", "down", "hover"]
    assert pilot.values["p.roll"] <= 25
    assert pilot.values["p.pitch"] <= 3 * START["p.pitch"] + 5  # nothing is raised without end
    broken = Pilot({"p.roll": 0.0})
    assert broken.fly().kind == "stop"
    assert "mechanical" in broken.steps[-1].headline


def test_a_step_never_passes_a_quarter_and_blocked_or_missing_values_are_left_out() -> None:
    low = {"p.roll": 10.0, "d.roll": 9.0}
    step = next_step([FLYABLE], low, start=low)
    assert (step.values or {})["p.roll"] == 12.0
    step = next_step([FLYABLE], START, start=START, blocked={"p.roll": "sensitivity peak could reach 2.4"})
    assert step.dial == "d.roll"
    ended = next_step([FLYABLE], {"p.roll": 40.0}, start=START, blocked={"p.roll": "sensitivity peak could reach 2.4"})
    assert ended.kind == "verify"
    assert "sensitivity peak could reach 2.4" in ended.why


@pytest.mark.parametrize(
    ("answers", "end"),
    [(["neither"], 50.0), (["hover", "neither"], 55.0), (["descent", "neither"], 45.0), (["hover", "descent"], 55.0)],
)
def test_integral_goes_by_what_wobbles(answers: list[str], end: float) -> None:
    entries, values = [FLYABLE], {"i.roll": 50.0}
    for answer in answers:
        step = next_step(entries, values, start=START)
        before = values["i.roll"]
        values |= step.values or {}
        entries.append(Entry(kind=step.kind, dial="i.roll", before=before, after=values["i.roll"], sign=answer))
    assert next_step(entries, values, start=START).kind == "verify"
    assert values["i.roll"] == end
