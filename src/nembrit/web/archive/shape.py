"""What an archive holds: which rows, in which order, and which of them belong to one craft."""

from dataclasses import dataclass

from django.db import models
from django.db.models import Q

from nembrit.web.flights.models import FieldTap, Flight, Outing, OwnCard
from nembrit.web.ground.models import CheckLimits, CheckNote, Obstacle, Profile, ReturnRule
from nembrit.web.hangar.models import Actuator, BuildEntry, Configuration, Craft, NameMapEntry, Setting
from nembrit.web.logs.models import Channel, FlightMark, ImportProfile, Log, Manoeuvre, Segment, Stream, Upload, VideoSync
from nembrit.web.packs.models import Pack, PackNote
from nembrit.web.planning.models import Session
from nembrit.web.telemetry.models import Alarm, LinkRead, Source
from nembrit.web.tunes.models import Answer, Arm, Decision, Experiment, Slip, Truth, Tune, Turn, WaitingSlip


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """Rows of one model. `craft` is the way from a row to its craft; empty for those that no craft owns."""

    model: type[models.Model]
    craft: str = ""
    left_out: tuple[str, ...] = ()
    is_later: bool = False  # archives of before it came do not hold it
    is_place: bool = False  # says where: left out where positions are

    @property
    def name(self) -> str:
        return str(self.model._meta.model_name)


# every row comes after those that it points to; `parent` and `returns_to` point to earlier rows of their own kind
KINDS: tuple[Kind, ...] = (
    Kind(model=OwnCard),
    Kind(model=Pack),
    Kind(model=PackNote),
    Kind(model=ImportProfile),
    Kind(model=Obstacle, is_later=True, is_place=True),
    Kind(model=Profile, is_later=True),
    Kind(model=Craft, craft="pk"),
    Kind(model=Actuator, craft="craft"),
    Kind(model=BuildEntry, craft="craft"),
    Kind(model=NameMapEntry, craft="craft"),
    Kind(model=Configuration, craft="craft"),
    Kind(model=Setting, craft="configuration__craft"),
    Kind(model=Session, craft="craft"),
    Kind(model=ReturnRule, craft="craft", is_later=True),
    Kind(model=CheckLimits, craft="craft", is_later=True),
    Kind(model=CheckNote, craft="craft", is_later=True),
    Kind(model=Source, craft="craft", is_later=True),
    Kind(model=Alarm, craft="craft", is_later=True),
    Kind(model=LinkRead, craft="craft", is_later=True),
    Kind(model=Flight, craft="craft"),
    Kind(model=Outing, craft="craft"),
    Kind(model=FieldTap, craft="outing__craft"),
    Kind(model=Log, craft="craft"),
    Kind(model=Upload, craft="log__craft", left_out=("content", "waiting_name")),
    Kind(model=Stream, craft="log__craft", left_out=("draft_of",)),
    Kind(model=Channel, craft="stream__log__craft"),
    Kind(model=Segment, craft="log__craft"),
    Kind(model=Manoeuvre, craft="log__craft"),
    Kind(model=FlightMark, craft="flight__craft", is_later=True),
    Kind(model=VideoSync, craft="flight__craft", is_later=True),
    Kind(model=Tune, craft="craft"),
    Kind(model=Slip, craft="tune__craft"),
    Kind(model=WaitingSlip, craft="tune__craft"),
    Kind(model=Answer, craft="slip__tune__craft"),
    Kind(model=Truth, craft="slip__tune__craft", is_later=True),
    Kind(model=Decision, craft="slip__tune__craft"),
    Kind(model=Experiment, craft="craft", left_out=("kept_arm",)),  # told after the arms, which point back to it
    Kind(model=Arm, craft="experiment__craft"),
    Kind(model=Turn, craft="experiment__craft"),
)
# columns that name a card; cards of one's own are known by their row
CARD_KEYS = {Flight: "card_key", Outing: "card_key", Slip: "card_key", Experiment: "card_key", Session: "card_key"}


def fields_of(kind: Kind) -> list[models.Field]:  # type: ignore[type-arg]  # Django's fields take no parameter here
    """The columns of a kind that are kept, without its number."""
    return [field for field in kind.model._meta.concrete_fields if not field.primary_key and field.name not in kind.left_out]


def rows_of(kind: Kind, craft: Craft | None) -> "models.QuerySet[models.Model]":
    """The rows that belong to a craft, or all of the workshop, in the order of their numbers."""
    rows = kind.model._default_manager.order_by("pk")
    if kind.model is Stream:
        rows = rows.exclude(log=None)
    if kind.model is Channel:
        rows = rows.exclude(stream__log=None)
    if craft is None:
        return rows
    if kind.craft:
        return rows.filter(**{kind.craft: craft.pk})
    return rows.filter(_used_by(kind, craft))


def _used_by(kind: Kind, craft: Craft) -> Q:
    """Of rows that no craft owns, those that its rows name."""
    if kind.model is ImportProfile:
        return Q(pk__in=craft.logs.exclude(profile=None).values("profile"))
    if kind.model is OwnCard:
        keys = {key for model, column in CARD_KEYS.items() for key in _of(model, craft).values_list(column, flat=True)}
        return Q(pk__in=[int(key[4:]) for key in keys if key.startswith("own-") and key[4:].isdigit()])
    if kind.model in (Obstacle, Profile):  # of the field, which planes come home over
        return Q() if craft.kind == Craft.Kind.FIXED_WING else Q(pk=None)
    names = list(craft.flights.exclude(pack="").values_list("pack", flat=True).distinct())
    column = "name" if kind.model is Pack else "pack__name"
    found = Q(pk=None)
    for name in names:
        found |= Q(**{f"{column}__iexact": name})
    return found


def _of(model: type[models.Model], craft: Craft) -> "models.QuerySet[models.Model]":
    return rows_of(next(kind for kind in KINDS if kind.model is model), craft)
