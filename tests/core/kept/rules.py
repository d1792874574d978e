"""Kept numbers of the rules that weigh, judge and translate, each moved through its range, and of the library."""

import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from nembrit.core.records.roles import QUANTITIES
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.controller import Filter
from nembrit.core.setup.library import LIBRARY, library_for, on_axis
from nembrit.core.setup.namemap import Meaning
from nembrit.core.trials.arms import DESIGNS, schedule
from nembrit.core.trials.counting import FlownFlight, standings, unlike
from nembrit.core.trials.experiment import RATING, ArmFlight, ArmPlan, judge_experiment
from nembrit.core.trials.gone import as_before, fault_gone
from nembrit.core.trials.met import met
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.trials.provoke import Attempt, Condition, Reached, conditions_when, provoke
from nembrit.core.trials.trial import judge
from nembrit.core.trials.verify import verify
from nembrit.core.trials.welch import detectable_difference
from nembrit.core.tuning.ranking import ranked, weigh
from nembrit.core.tuning.translate import chain_values, gain_values, like
from nembrit.core.types import AXES
from tests.core.kept.sweeps import told
from tests.core.tuning.trying import BASE, ROTOR, low

METRICS = ("motion_noise.roll", "motor_roughness", "overshoot.roll", "step_delay.roll", "bounce_back.pitch", "tracking_error.yaw")


def library() -> Any:
    found: dict[str, Any] = {known.key: known for known in LIBRARY}
    found["cards"] = CARDS
    found["on axes"] = [on_axis(known.step, axis) for known in LIBRARY for axis in AXES]
    for kind in ("multirotor", "fixed_wing"):
        stages = {stage for known in LIBRARY for stage in known.stages}
        questions = {question for known in LIBRARY for question in known.questions}
        found[kind] = {
            f"{stage} {question}": [known.key for known in library_for(kind, stage=stage, question=question)]
            for stage in sorted(stages | {""})
            for question in sorted(questions | {""})
        }
    return found


def weighing() -> Any:
    """Predictions weighed, ranked and met, as each end goes through its range."""
    found: dict[str, Any] = {}
    steps = (0.3, 0.7, 0.9, 0.95, 1.0, 1.05, 1.2, 2.0)
    every = []
    for metric, direction in itertools.product(METRICS[:4], ("lower", "higher")):
        limits = tuple(Limit(metric=name, most=most) for name, most in ((METRICS[2], 0.03), (METRICS[1], 0.15)) if name != metric)
        plan = Plan(primary=Primary(metric=metric, direction=direction), limits=limits)
        for ratio, half in itertools.product(steps, (0.02, 0.3)):
            numbers = (0.1, 0.1 * ratio, 0.1 * ratio * (1 - half), 0.1 * ratio * (1 + half))
            every.append(weigh(dict.fromkeys(METRICS, numbers), plan, is_stable=ratio < 1.5))
            tried = [
                met(numbers, before, 0.1 * after, is_ratio=is_ratio)
                for before in (0.1, 0.15, None)
                for after in steps
                for is_ratio in (True, False)
            ]
            found[f"met {metric} {ratio} {half}"] = np.array([[*one.predicted, one.error] for one in tried if one is not None])
        every += [weigh({}, plan), weigh({metric: (0.1, 0.0, 0.0, 0.1)}, plan)]
    found["weighed"] = every
    found["ranked"] = ranked(every)
    found["misses"] = [met((1.0, 1.0, 0.9, 1.1), 1.0, 1.0 + x, is_ratio=False).is_miss for x in (0.1499, 0.1501, -0.149, -0.151)]
    return found


def _trial_flights() -> Iterator[tuple[str, list[FlownFlight]]]:
    rng = np.random.default_rng(8)
    plain = [
        FlownFlight(
            number=k, is_after=k > 4, metrics={name: 1.0 + 0.05 * float(rng.normal()) - 0.2 * (k > 4) for name in METRICS}
        )
        for k in range(1, 9)
    ]
    yield "plain", plain
    changes: dict[str, dict[str, Any]] = {
        "short": {"window_s": 17.0, "card_s": 30.0}, "just long enough": {"window_s": 18.1, "card_s": 30.0},
        "no card, short": {"window_s": 9.9}, "no card": {"window_s": 10.1}, "slower": {"sample_rate_hz": 1249.0},
        "a little slower": {"sample_rate_hz": 1251.0}, "faster": {"sample_rate_hz": 3201.0},
        "filtered": {"noise_channel": "gyro"}, "faulty": {"fault": "a loose mount"}, "aborted": {"ended": "aborted"},
        "crashed": {"ended": "crashed"},
        "simulated": {"is_simulated": True}, "cause": {"is_cause": True}, "out": {"chosen": "out", "chosen_why": "a gust"},
        "faulty, in": {"fault": "a loose mount", "chosen": "in", "chosen_why": "known"},
    }  # fmt: skip
    for name, change in changes.items():
        for at in ((1,), (5,), (1, 2, 5, 6), (5, 6, 7, 8)):
            yield f"{name} {at}", [replace(one, **change) if k in at else one for k, one in enumerate(plain)]
    yield "twice", [*plain, replace(plain[0], number=12)]


def _scaled(flight: FlownFlight, by: float) -> FlownFlight:
    return replace(flight, metrics={name: value * by for name, value in flight.metrics.items()})


def trials() -> Any:
    found: dict[str, Any] = {}
    limits = (Limit(metric="overshoot.roll", most=0.03), Limit(metric="motor_roughness", most=0.15))
    plan = Plan(primary=Primary(metric="motion_noise.roll", direction="lower"), limits=limits)
    for name, flights in _trial_flights():
        standing = [standings(flights, plan, is_repair=is_repair) for is_repair in (False, True)]
        found[name] = [
            "; ".join(f"{one.flight.number} {one.state} {one.why} {one.by_rule}" for one in own if not one.counts)
            for own in standing
        ]
        verdict = judge(standing[0], plan)
        found[name].append([verdict.word, verdict.why, [[one.state, one.change_pct] for one in verdict.limits]])
    sides = dict(_trial_flights())
    before, now = sides["plain"][:4], sides["plain"][4:]
    for scale, n in itertools.product((0.5, 1.0, 1.24, 1.3, 1.6, 3.0), (0, 3, 4)):
        verdict = verify({"full": before}, {"full": [_scaled(one, scale) for one in now[:n]]})
        found[f"verified {scale} {n}"] = [verdict.word, verdict.sentence, [[one.name, one.verdict] for one in verdict.metrics]]
    found["as before"] = [
        [one, one and one.in_words]
        for metric in METRICS
        for n in (0, 3, 4)
        for one in [as_before(sides["plain"][:n], sides["plain"][4:], metric)]
    ]
    found["gone"] = [fault_gone([False] * n + [True] * k).in_words for n in range(6) for k in (0, 1)]
    for channel, hz in itertools.product(("gyro", "gyro_raw"), (1249.0, 1251.0, 3199.0, 3201.0)):
        found[f"unlike {channel} {hz}"] = unlike({1: ("gyro", 2000.0), 2: (channel, hz), 3: ("gyro", 2000.0)})
    return found


def questions() -> Any:
    """Experiments with arms: every order, ratings and metrics, what else differed."""
    found: dict[str, Any] = {}
    rng = np.random.default_rng(5)
    for design, n_arms, repetitions in itertools.product(DESIGNS, (2, 3), (4, 6)):
        arms = told(lambda d=design, n=n_arms, r=repetitions: schedule(n, r, d, seed=3))
        found[f"{design} {n_arms} {repetitions}"] = arms
        if isinstance(arms, str):
            continue
        for metric, effect in itertools.product(("motion_noise.roll", RATING), (0.0, 0.5, 2.0)):
            flights = [
                ArmFlight(
                    arm=arm, rating=int(np.clip(3 + round(effect * arm + 0.4 * rng.normal()), 1, 5)),
                    guess=arm if k % 3 else None,
                    flight=FlownFlight(
                        number=k, is_after=arm > 0, fault="loose" if k == 7 else "",
                        metrics={"motion_noise.roll": float(np.exp(-effect * arm / 3 + 0.05 * rng.normal()))},
                    ),
                    pack="ab"[arm % 2], wind_m_s=1.0 + 2.1 * arm * (effect > 1), start_cell_v=4.2 - 0.11 * arm, build="x",
                )
                for k, arm in enumerate(arms, 1)
            ]  # fmt: skip
            plan = ArmPlan(
                metric=metric, direction="higher" if metric == RATING else "lower", design=design, repetitions=repetitions,
                n_arms=n_arms,
            )  # fmt: skip
            found[f"{design} {n_arms} {repetitions} {metric} {effect}"] = [judge_experiment(flights[:n], plan) for n in (6, 99)]
    faults = [Reached(lowest_cell_v=v, highest_throttle_ratio=t, highest_temperature_c=c)
              for v, t, c in ((3.4, 0.95, 50.0), (3.6, 0.9, 45.0), (3.61, 0.89, 44.9), (None, 1.2, None))]  # fmt: skip
    for fault in faults:
        conditions = conditions_when(fault)
        near = [
            Attempt(
                number=k, came_back=back,
                reached=Reached(lowest_cell_v=3.4 + dv, highest_throttle_ratio=0.95 - dt, highest_temperature_c=50 - dc),
            )
            for k, (dv, dt, dc, back) in enumerate(
                itertools.product((0.04, 0.06, 0.12), (0.04, 0.06, 0.12), (2.0, 6.0, 11.0), (False, None))
            )
        ]  # fmt: skip
        found[f"provoked {fault}"] = [conditions, provoke(conditions, near), provoke(conditions, near[:1]).in_words]
        found[f"back {fault}"] = provoke(conditions, [*near[:3], replace(near[3], came_back=True)]).in_words
    for name, value in (("lowest_cell_v", 1.9), ("lowest_cell_v", 4.31), ("highest_throttle_ratio", 0.29), ("other", 1.0)):
        found[f"condition {name} {value}"] = told(lambda name=name, value=value: Condition(name=name, value=value).in_words)
    return found


def translated() -> Any:
    found: dict[str, Any] = {
        f"{shown} {value}": like(shown, value)
        for shown in ("43", "4.3", "0.043", "1e-3", "0", "x", "120.0")
        for value in (0.0, 1e-4, 0.0123, 0.1, 0.5, 0.99, 1.0, 3.14159, 99.95, 1234.5, -2.5)
    }
    filters = ("gyro.lowpass_hz", "gyro.notch_hz", "gyro.notch_q", "d.lowpass_hz", "chip.lowpass_hz")
    keys = [f"filter.{one}" for one in filters] + [f"gain.rate.{axis}.{term}" for axis in AXES for term in "pidf"]
    for n in (len(keys), 4, 1, 0):
        settings = [Setting(name=f"s{k}", value=value) for k, value in enumerate(("120", "0", "3", "80", "0.5", *["41.0"] * 12))]
        names = {f"s{k}": Meaning(key, 1.0 if k % 2 else None) for k, key in enumerate(keys[:n])}
        for name, chains in (
            ("plain", replace(BASE, gyro=(low(210.0),), d_term=(low(95.0),))),
            ("notch", replace(BASE, gyro=(low(210.0), Filter(kind="notch", frequency_hz=140.0, q=4.0)), d_term=())),
            ("two", replace(BASE, gyro=(low(210.0), low(400.0)), chip=(low(300.0),), d_term=(low(95.0), low(60.0)))),
            ("rotor", replace(BASE, gyro=(ROTOR,), feed_forward=(low(30.0),))),
        ):
            found[f"chains {n} {name}"] = told(lambda s=settings, m=names, c=chains: chain_values(s, m, c))
        found[f"gains {n}"] = told(
            lambda s=settings, m=names: gain_values(s, m, {"roll": {"p": 1.17, "d": 0.83}, "yaw": {"i": 2.0, "f": 0.5}})
        )
    return found


def few() -> Any:
    """Verdicts from next to nothing, marks that should fall, and the roles' units."""
    found: dict[str, Any] = {"units": QUANTITIES}
    for before, after in itertools.product((0, 1, 2, 3, 5), repeat=2):
        found[f"{before} {after}"] = [
            detectable_difference(sd=sd, n_before=before, n_after=after, one_sided=one_sided)
            for sd in (0.0, 0.2)
            for one_sided in (True, False)
        ]
    arms = schedule(2, 4, "blocks", seed=3)
    for direction, better in itertools.product(("higher", "lower"), (-1, 0, 1)):
        flights = [
            ArmFlight(arm=arm, rating=3 + better * arm, flight=FlownFlight(number=k, is_after=arm > 0, metrics={}))
            for k, arm in enumerate(arms, 1)
        ]
        plan = ArmPlan(metric=RATING, direction=direction, design="blocks", repetitions=4, n_arms=2)
        found[f"rated {direction} {better}"] = judge_experiment(flights, plan)
    return found


RULES: dict[str, Callable[[], Any]] = {
    "library": library, "weighing": weighing, "trials": trials, "questions": questions, "translated": translated,
    "few": few,
}  # fmt: skip
