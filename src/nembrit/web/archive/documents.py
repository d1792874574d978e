"""The form of every document that a row of an archive carries: what another form has is refused before a page meets it."""

from collections.abc import Callable
from typing import Any, Literal, NotRequired, TypedDict

from django.db import models

from nembrit.core.errors import InputError
from nembrit.core.given import checked
from nembrit.core.records.mapping import check_mapping, mapping_from_json
from nembrit.core.setup.card import card_from_json
from nembrit.core.setup.namemap import GROUPS
from nembrit.core.telemetry.meaning import LiveColumn
from nembrit.core.trials.arms import DESIGNS
from nembrit.core.trials.metrics import metric_kind
from nembrit.web.flights.models import FieldTap, Flight, OwnCard
from nembrit.web.ground.models import Obstacle, Profile
from nembrit.web.hangar.models import BuildEntry, Craft
from nembrit.web.logs.models import Channel, ImportProfile, Log, Segment
from nembrit.web.telemetry.models import LinkRead, Source
from nembrit.web.tunes import waiting
from nembrit.web.tunes.experiments import order_of
from nembrit.web.tunes.models import Decision, Experiment, Slip, Truth, Tune, WaitingSlip
from nembrit.web.tunes.trials import plan_of

Number = float | None


class Step(TypedDict):
    t_ms: list[float]
    y: list[float]
    half: list[float]


class Prediction(TypedDict, total=False):
    flight: int
    metrics: dict[str, tuple[float, float, float, float]]
    stable: bool
    steps: dict[str, Step]


class Limit(TypedDict):
    metric: str
    most: float


class Look(TypedDict):
    at: str
    before: int
    after: int


class Reopened(TypedDict):
    outcome: str
    note: str
    decided_at: str
    at: str
    why: str


class Wanted(TypedDict):
    name: str
    value: float


class Provoke(TypedDict):
    conditions: list[Wanted]
    fault: str
    answers: dict[str, bool]


class Text(TypedDict):
    title: str
    why: str
    expect: str
    risk: str
    primary_metric: str
    direction: Literal["lower", "higher"]
    card_key: NotRequired[str]
    despite: NotRequired[str]
    beyond: NotRequired[str]
    flights_a_side: NotRequired[int]
    order: NotRequired[str]
    limits: list[Limit]


class Measured(TypedDict):
    name: str
    unit: str
    before_mean: Number
    after_mean: Number
    change_pct: Number
    verdict: str
    primary: bool


class Comparison(TypedDict, total=False):
    schema: str
    metrics: list[Measured]


class Verification(TypedDict, total=False):
    sentence: str
    kept: dict[str, Any]


class Note(TypedDict):
    code: str
    severity: str
    detail: str
    column: str | None
    start_s: Number
    end_s: Number


class Clock(TypedDict):
    column: int | None
    unit_s: Number
    rate_hz: Number
    confidence: float
    reason: str


class Use(TypedDict):
    name: str
    role: NotRequired[str | None]
    unit: NotRequired[str]
    factor: NotRequired[float]
    offset: NotRequired[float]
    confidence: NotRequired[float]
    reason: NotRequired[str]


class Table(TypedDict):
    clock: Clock
    columns: list[Use]


class Mapping(TypedDict):
    tables: list[Table]
    notes: NotRequired[list[Any]]
    modes: NotRequired[dict[str, str]]


class Simulation(TypedDict, total=False):
    seed: int
    wind_m_s: Number
    pack_charge_ratio: float
    faults: dict[str, Any]


class FlightAsked(TypedDict, total=False):
    card_key: str
    configuration_id: int | None
    build_entry_id: int | None
    flight_id: int | None
    flown_at: str | None
    wind_m_s: Number
    pack: str
    conditions: str


class Request(TypedDict, total=False):
    simulation: Simulation
    flight: FlightAsked
    clock: str


class Stats(TypedDict, total=False):
    low: Number
    high: Number
    mean: Number
    missing: Number
    labels: Number


class Alignment(TypedDict, total=False):
    reason: str
    offset_s: float
    offset_interval_s: list[Number]
    skew_ppm: float
    skew_interval_ppm: list[Number]
    correlation: Number
    certainty_ratio: Number
    roles: list[str]
    n_windows: int


class Tapped(TypedDict, total=False):
    what: str
    step: int
    ended: str
    heat: dict[str, str]
    celsius: dict[str, float]
    rating: int | None
    note: str


class Column(TypedDict):
    name: str
    key: str
    unit: str
    factor: float
    offset: float
    confidence: float


class RouteStep(TypedDict, total=False):
    kind: str
    dial: str
    before: float
    after: float
    sign: str | None


class CoachedFlight(TypedDict):
    at: str
    kind: str
    dial: str
    sign: str


class Run(TypedDict):
    at: str
    values: dict[str, float]
    minutes: Number


class Coached(TypedDict, total=False):
    before: dict[str, float]
    runs: list[Run]
    start: dict[str, float]
    fine: bool
    flights: list[CoachedFlight]


FORMS: dict[type[models.Model], dict[str, Any]] = {
    Obstacle: {"places": list[tuple[float, float]]},
    Profile: {"distance_m": list[float], "ground_m": list[float]},
    Source: {"meanings": list[Column]},
    LinkRead: {"settings": dict[str, str]},
    Tune: {"verification": Verification, "coached": Coached},
    Slip: {
        "limits": list[Limit], "prediction": Prediction, "extensions": list[int], "looks": list[Look], "reopened": list[Reopened],
        "provoke": Provoke | dict[str, None], "route_step": RouteStep,
    },
    WaitingSlip: {"text": Text, "values": dict[str, str], "prediction": Prediction},
    Decision: {"comparison": Comparison, "trial": dict[str, Any]},
    Truth: {"measured": dict[str, Number]},
    Log: {
        "quality": list[Note], "preamble": list[tuple[str, str]], "understood": list[str], "chosen_mapping": Mapping | None,
        "applied_mapping": Mapping | None, "questions": list[str], "request": Request,
    },
    ImportProfile: {"mapping": Mapping},
    Channel: {"labels": list[str] | None, "stats": Stats},
    Segment: {"alignment": Alignment},
    Flight: {"simulation": Simulation},
    FieldTap: {"data": Tapped},
    OwnCard: {"document": dict[str, Any]},
    BuildEntry: {"simulated_faults": dict[str, Any]},
    Craft: {"skipped_questions": list[str]},
}  # fmt: skip


def check_documents(row: models.Model) -> None:
    """Hold a row's documents to their form, and to what the pages make of them. Raises InputError."""
    for name, kind in FORMS.get(type(row), {}).items():
        checked(kind, getattr(row, name), where=f"{row._meta.model_name}.{name}")
    for kind_of_row, check in _MEANING.items():
        if isinstance(row, kind_of_row):
            check(row)


def _slip(row: models.Model) -> None:
    assert isinstance(row, Slip)
    for group in filter(None, (row.group, row.also)):
        if group != "hardware" and group not in GROUPS:
            raise InputError(f"“{group[:20]}” is no group of settings")
    if metric_kind(row.primary_metric) is None:
        raise InputError(f"“{row.primary_metric[:40]}” is no number that flights are judged by")
    plan_of(row)


def _waiting(row: models.Model) -> None:
    assert isinstance(row, WaitingSlip)
    waiting.plan_of(row)


def _log(row: models.Model) -> None:
    assert isinstance(row, Log)
    for document in (row.chosen_mapping, row.applied_mapping):
        if document is not None:
            check_mapping(mapping_from_json(document))


def _profile(row: models.Model) -> None:
    assert isinstance(row, ImportProfile)
    check_mapping(mapping_from_json(row.mapping))


def _card(row: models.Model) -> None:
    assert isinstance(row, OwnCard)
    card_from_json(row.document)


def _source(row: models.Model) -> None:
    assert isinstance(row, Source)
    for one in row.meanings:
        LiveColumn(**one)


def _experiment(row: models.Model) -> None:
    assert isinstance(row, Experiment)
    if row.design not in DESIGNS:
        raise InputError(f"“{row.design[:20]}” is no design of a comparison")
    order_of(row)


_MEANING: dict[type[models.Model], Callable[[models.Model], None]] = {
    Slip: _slip, WaitingSlip: _waiting, Log: _log, ImportProfile: _profile, OwnCard: _card, Source: _source,
    Experiment: _experiment,
}  # fmt: skip
