"""Tunes, change slips and decisions."""

from django.db import models
from django.urls import reverse

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft


class Tune(models.Model):
    """A campaign on one craft from baseline to locked."""

    class Stage(models.TextChoices):
        BASELINE = "baseline", "Baseline"
        MECHANICS = "mechanics", "Mechanics"
        TRIM = "trim", "Trim"
        FILTERS = "filters", "Filters"
        GAINS = "gains", "Gains"
        VERIFY = "verify", "Verify"
        LOCKED = "locked", "Locked"

    class Route(models.TextChoices):
        LOG_FIRST = "log_first", "log first"
        STEP_UP = "step_up", "step-up by feel"
        OWN = "own", "own way"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="tunes")
    name = models.CharField(max_length=60, default="First tune")
    route = models.CharField(max_length=10, choices=Route, default=Route.LOG_FIRST)
    stage = models.CharField(max_length=10, choices=Stage, default=Stage.BASELINE)
    started_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("tunes:tune", args=[self.craft_id])


class Slip(models.Model):
    """One proposed change of exactly one group, and the flights that judge it."""

    class State(models.TextChoices):
        OPEN = "open", "flying"
        KEPT = "kept", "kept"
        UNDONE = "undone", "undone"

    class Direction(models.TextChoices):
        LOWER = "lower", "lower"
        HIGHER = "higher", "higher"

    tune = models.ForeignKey(Tune, on_delete=models.CASCADE, related_name="slips")
    number = models.PositiveIntegerField()
    group = models.CharField(max_length=20)
    title = models.CharField(max_length=120)
    why = models.TextField(blank=True)
    expect = models.CharField(max_length=300, blank=True)
    risk = models.CharField(max_length=300, blank=True)
    despite = models.CharField(max_length=300, blank=True)  # why settings change although mechanics are at fault
    primary_metric = models.CharField(max_length=40)
    direction = models.CharField(max_length=6, choices=Direction, default=Direction.LOWER)
    card_key = models.CharField(max_length=60, blank=True)
    state = models.CharField(max_length=6, choices=State, default=State.OPEN)
    base_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="slips_from")
    base_build = models.ForeignKey(BuildEntry, on_delete=models.PROTECT, null=True, related_name="slips_from")
    result_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="slips_to")
    result_build = models.ForeignKey(BuildEntry, on_delete=models.PROTECT, null=True, related_name="slips_to")
    left_out = models.ManyToManyField(Flight, related_name="left_out_of")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("tune", "number"), name="one_slip_a_number")]

    def get_absolute_url(self) -> str:
        return reverse("tunes:slip", args=[self.pk])


class Decision(models.Model):
    """What the tuner decided about a slip, with the verdict as it stood then."""

    class Outcome(models.TextChoices):
        KEEP = "keep", "kept"
        UNDO = "undo", "undone"

    slip = models.OneToOneField(Slip, on_delete=models.CASCADE, related_name="decision")
    outcome = models.CharField(max_length=4, choices=Outcome)
    note = models.CharField(max_length=300, blank=True)
    comparison = models.JSONField(default=dict)
    decided_at = models.DateTimeField(auto_now_add=True)
