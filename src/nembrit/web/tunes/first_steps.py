"""What only a person can answer about a new craft, asked once, in one place, each with a default."""

from collections.abc import Iterator
from dataclasses import dataclass

from django.urls import reverse

from nembrit.core.errors import InputError
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import MOTORS_CHECKED, latest_configuration, name_map
from nembrit.web.intake.meanings import modes_of
from nembrit.web.logs.models import Channel, Log
from nembrit.web.logs.windows import SURE

_FEW_FLIGHTS = 3  # a craft with more is none that begins


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """One thing to say about the craft. Without an answer its default holds."""

    key: str
    title: str
    why: str
    default: str
    url: str
    label: str
    is_answered: bool
    is_skipped: bool = False

    @property
    def is_left(self) -> bool:
        return not self.is_answered and not self.is_skipped


def questions_of(craft: Craft) -> list[Question]:
    """All questions that this craft and its first log raise, in the order in which to answer them."""
    skipped = set(craft.skipped_questions)
    return [_with_skip(one, skipped) for one in _asked(craft, _first_log(craft))]


def is_new(craft: Craft) -> bool:
    """Whether the craft has just begun, so that its questions matter most."""
    return craft.flights.count() < _FEW_FLIGHTS


def left_of(craft: Craft) -> int:
    return sum(one.is_left for one in questions_of(craft)) if is_new(craft) else 0


def skip(craft: Craft, key: str) -> None:
    """Keep the default of one question. Raises InputError for one that this craft does not raise."""
    if key not in {one.key for one in questions_of(craft)}:
        raise InputError("this craft has no such question")
    craft.skipped_questions = sorted({*craft.skipped_questions, key})
    craft.save(update_fields=("skipped_questions",))


def first_finding(craft: Craft) -> Flight | None:
    """The newest flight, whose page shows the first finding."""
    return craft.flights.active().first()


def _with_skip(one: Question, skipped: set[str]) -> Question:
    if one.is_answered or one.key not in skipped:
        return one
    return Question(
        key=one.key, title=one.title, why=one.why, default=one.default, url=one.url, label=one.label, is_answered=False,
        is_skipped=True,
    )  # fmt: skip


def _first_log(craft: Craft) -> Log | None:
    return craft.logs.filter(archived_at=None).exclude(state=Log.State.REFUSED).order_by("pk").first()


def _asked(craft: Craft, log: Log | None) -> Iterator[Question]:
    yield Question(
        key="settings", title="Which settings does it fly?", why="Proposals need your present gains and filters.",
        default="Without them Nembrit measures, but proposes no values.",
        url=reverse("hangar:configuration_new", args=[craft.pk]), label="Save settings",
        is_answered=latest_configuration(craft) is not None,
    )  # fmt: skip
    if latest_configuration(craft) is not None and craft.kind == Craft.Kind.MULTIROTOR:
        yield Question(
            key="names", title="Which settings are gains and filters?", why="Slips and the simulator use them by name.",
            default="Unnamed settings can be changed one at a time.", url=reverse("hangar:names", args=[craft.pk]),
            label="Name the settings",
            is_answered=any(one.key.startswith("gain.rate.") for one in name_map(craft).values()),
        )  # fmt: skip
    if craft.kind == Craft.Kind.MULTIROTOR:
        yield Question(
            key="motors", title="Where is each motor?", why="Findings name motors by number.",
            default="Motors are numbered clockwise from the right of the nose.",
            url=f"{reverse('hangar:craft_edit', args=[craft.pk])}#motors", label="Check motor positions",
            is_answered=MOTORS_CHECKED in craft.skipped_questions,
        )  # fmt: skip
    else:
        yield Question(
            key="surfaces", title="Which servo moves which surface?", why="Trim steps name servos.",
            default="Servos as recognised from the log.", url=reverse("hangar:craft_surfaces", args=[craft.pk]),
            label="Check control surfaces",
            is_answered=craft.actuators.filter(kind="servo", direction__isnull=False).exists(),
        )  # fmt: skip
    yield Question(
        key="log", title="Do you have a log?", why="A half-minute flight is enough for a first finding.",
        default="Fly it in the simulator instead.", url=craft.get_absolute_url(), label="Attach a log",
        is_answered=log is not None,
    )  # fmt: skip
    if log is not None:
        yield from _of_log(log)


def _of_log(log: Log) -> Iterator[Question]:
    meanings = reverse("intake:meanings", args=[log.pk])
    doubtful = Channel.objects.filter(stream__log=log, confidence__lt=SURE).exclude(role="").exclude(role=None)
    names = ", ".join(doubtful.values_list("name", flat=True)[:6])
    if names or log.questions:
        yield Question(
            key=f"columns-{log.pk}", title="What do these columns mean?",
            why=f"In doubt: {names}." if names else str(log.questions[0]), default="Columns as recognised.", url=meanings,
            label="Check the columns", is_answered=False,
        )  # fmt: skip
    modes = modes_of(log, {}) if log.applied_mapping else []
    if modes:
        yield Question(
            key=f"modes-{log.pk}", title="What are the flight modes called?",
            why="Trims and returns are judged only in named modes.", default="Numbers without names.",
            url=f"{meanings}#modes", label="Name the modes", is_answered=all(one.name for one in modes),
        )  # fmt: skip
