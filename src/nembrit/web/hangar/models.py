"""Craft, their parts and their configurations."""

from typing import Any

from django.db import models
from django.db.models.functions import Coalesce
from django.urls import reverse
from django.utils.functional import cached_property

from nembrit.web.common.unchanged import while_unchanged


class CraftQuerySet(models.QuerySet["Craft"]):
    def active(self) -> "CraftQuerySet":
        return self.filter(archived_at=None)

    def counted(self) -> "CraftQuerySet":
        """With its motors, flights and configurations counted, in one query for any number of craft."""
        motors = Actuator.objects.filter(kind=Actuator.Kind.MOTOR)
        return self.annotate(
            counted_motors=_number_of(motors),
            n_flights=models.Count("flights", filter=models.Q(flights__archived_at=None)),
            n_configurations=_number_of(Configuration.objects.all()),
        )


def _number_of(rows: models.QuerySet[Any]) -> Coalesce:
    """How many of these rows each craft has."""
    counted = rows.filter(craft=models.OuterRef("pk")).order_by().values("craft").annotate(n=models.Count("pk")).values("n")
    return Coalesce(models.Subquery(counted), 0)


class Craft(models.Model):
    """One airframe."""

    class Kind(models.TextChoices):
        MULTIROTOR = "multirotor", "multirotor"
        FIXED_WING = "fixed_wing", "model aeroplane"

    class Chemistry(models.TextChoices):
        LIPO = "lipo", "lithium-polymer"
        LIHV = "lihv", "lithium-polymer, high voltage"
        LIION = "liion", "lithium-ion"

    name = models.CharField(max_length=60, unique=True)
    kind = models.CharField(max_length=12, choices=Kind, default=Kind.MULTIROTOR)
    about = models.CharField(max_length=200, blank=True)
    propeller_diameter_in = models.FloatField(default=5.0)
    propeller_pitch_in = models.FloatField(default=4.0)
    propeller_blades = models.PositiveSmallIntegerField(default=3)
    cells = models.PositiveSmallIntegerField(default=4)
    chemistry = models.CharField(max_length=6, choices=Chemistry, default=Chemistry.LIPO)
    mass_g = models.FloatField(default=600.0)
    created_at = models.DateTimeField(auto_now_add=True)
    archived_at = models.DateTimeField(null=True, blank=True)
    skipped_questions = models.JSONField(default=list, blank=True)  # of the first steps: keys whose default was kept

    objects = CraftQuerySet.as_manager()

    class Meta:
        ordering = ("id",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("tunes:craft", args=[self.pk])

    @cached_property
    def n_motors(self) -> int:
        counted: int | None = getattr(self, "counted_motors", None)
        return _motors_of(self) if counted is None else counted

    @property
    def summary(self) -> str:
        """“hexacopter, 6 in”."""
        if self.kind == self.Kind.FIXED_WING:
            return "model aeroplane"
        words = {3: "tricopter", 4: "quadcopter", 6: "hexacopter", 8: "octocopter"}
        return f"{words.get(self.n_motors, f'{self.n_motors} motors')}, {self.propeller_diameter_in:g} in"


@while_unchanged
def _motors_of(craft: Craft) -> int:
    return craft.actuators.filter(kind=Actuator.Kind.MOTOR).count()


class Actuator(models.Model):
    """A motor or a servo of a craft, in the order of the log's channels."""

    class Kind(models.TextChoices):
        MOTOR = "motor"
        SERVO = "servo"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="actuators")
    kind = models.CharField(max_length=5, choices=Kind)
    number = models.PositiveSmallIntegerField()
    roll = models.FloatField(default=0.0)  # mixer row: what it gives for a positive command
    pitch = models.FloatField(default=0.0)
    yaw = models.FloatField(default=0.0)
    centre_us = models.FloatField(null=True)
    lowest_us = models.FloatField(null=True)
    highest_us = models.FloatField(null=True)
    is_reversed = models.BooleanField(default=False)
    role = models.CharField(max_length=14, blank=True)  # of a servo: a key of core.setup.craft.SURFACES
    direction = models.SmallIntegerField(null=True)  # +1 or −1; none: not known
    throw_us = models.FloatField(null=True)
    trim_us = models.FloatField(default=0.0)

    class Meta:
        ordering = ("kind", "number")
        constraints = [models.UniqueConstraint(fields=("craft", "kind", "number"), name="one_actuator_a_number")]


class BuildEntry(models.Model):
    """A dated change of hardware."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="build_entries")
    made_at = models.DateTimeField()
    part = models.CharField(max_length=80)
    text = models.CharField(max_length=300, blank=True)
    # what the simulator's craft suffers from since then: it stands in for a real craft's hidden faults
    simulated_faults = models.JSONField(default=dict, blank=True)
    is_return = models.BooleanField(default=False)  # the craft is again as it was with the entry below, or with none
    returns_to = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="returned_by")

    class Meta:
        ordering = ("made_at", "id")

    def __str__(self) -> str:
        return self.part


class NameMapEntry(models.Model):
    """What one setting's name means on this craft's firmware."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="name_map")
    name = models.CharField(max_length=200)
    meaning = models.CharField(max_length=60)
    scale = models.FloatField(null=True)  # SI per unit shown
    found_scale = models.FloatField(null=True)  # the same as a log told it, where none was typed
    found_in = models.PositiveIntegerField(null=True)  # number of the flight that told it

    class Meta:
        constraints = [models.UniqueConstraint(fields=("craft", "name"), name="one_meaning_a_name")]


class Configuration(models.Model):
    """An immutable revision of all settings of a craft."""

    class Source(models.TextChoices):
        PASTED = "pasted", "pasted"
        SLIP = "slip", "from a change slip"
        UNDO = "undo", "undo"
        EXPERIMENT = "trial", "from a blind comparison"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="configurations")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="children")
    source = models.CharField(max_length=8, choices=Source, default=Source.PASTED)
    note = models.CharField(max_length=200, blank=True)
    verb = models.CharField(max_length=40, blank=True)  # a word that the tuner's own list has before every name
    between = models.CharField(max_length=20, default=" = ")  # what it has between a name and its value
    is_reference = models.BooleanField(default=False)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = [
            models.UniqueConstraint(fields=("craft", "number"), name="one_configuration_a_number"),
            models.UniqueConstraint(fields=("craft",), condition=models.Q(is_reference=True), name="one_reference_a_craft"),
        ]

    def __str__(self) -> str:
        return f"r{self.number}"

    def get_absolute_url(self) -> str:
        return reverse("hangar:configuration", args=[self.pk])


class Setting(models.Model):
    """One line of a configuration, as the tuner sees it."""

    configuration = models.ForeignKey(Configuration, on_delete=models.CASCADE, related_name="settings")
    position = models.PositiveIntegerField()
    name = models.CharField(max_length=200)
    value = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ("position",)
        constraints = [models.UniqueConstraint(fields=("configuration", "name"), name="one_value_a_name")]
