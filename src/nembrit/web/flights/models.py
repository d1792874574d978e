"""Flights: what was flown, with what, and how it went."""

from django.db import models
from django.urls import reverse

from nembrit.web.hangar.models import BuildEntry, Configuration, Craft


class FlightQuerySet(models.QuerySet["Flight"]):
    def active(self) -> "FlightQuerySet":
        """Those that lists and comparisons show: not put away, and not sealed by a blind trial."""
        return self.filter(archived_at=None, is_sealed=False)


class Flight(models.Model):
    """A take-off to landing, or one test stretch within it."""

    class Heat(models.TextChoices):
        UNKNOWN = "", "not touched"
        COOL = "cool", "cool"
        WARM = "warm", "warm"
        HOT = "hot", "too hot to hold"

    class Ended(models.TextChoices):
        AS_PLANNED = "", "as planned"
        ABORTED = "aborted", "was aborted"
        CRASHED = "crashed", "ended in a crash"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="flights")
    number = models.PositiveIntegerField()
    configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="flights")
    build_entry = models.ForeignKey(BuildEntry, on_delete=models.PROTECT, null=True, blank=True, related_name="flights")
    flown_at = models.DateTimeField()
    card_key = models.CharField(max_length=60, blank=True)
    pack = models.CharField(max_length=60, blank=True)
    wind_m_s = models.FloatField(null=True, blank=True)
    conditions = models.CharField(max_length=200, blank=True)
    notes = models.TextField(blank=True)
    ended = models.CharField(max_length=8, choices=Ended, default=Ended.AS_PLANNED, blank=True)
    heat = models.CharField(max_length=4, choices=Heat, default=Heat.UNKNOWN, blank=True)
    # seed and world of a simulated flight; empty for a real one
    simulation = models.JSONField(default=dict, blank=True)
    blind_code = models.CharField(max_length=8, blank=True)  # under which a blind trial gave its settings out
    is_sealed = models.BooleanField(default=False)  # nothing of it is shown until its trial is revealed
    archived_at = models.DateTimeField(null=True, blank=True)

    objects = FlightQuerySet.as_manager()

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("craft", "number"), name="one_flight_a_number")]

    def __str__(self) -> str:
        return f"flight {self.number}"

    @property
    def is_simulated(self) -> bool:
        return bool(self.simulation)

    def get_absolute_url(self) -> str:
        return reverse("bench:flight", args=[self])


class Outing(models.Model):
    """One time out with a craft: what was looked at before, and what the phone noted; its log comes later."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="outings")
    configuration = models.ForeignKey(Configuration, on_delete=models.SET_NULL, null=True, related_name="+")
    flight = models.OneToOneField(Flight, on_delete=models.SET_NULL, null=True, related_name="outing")
    card_key = models.CharField(max_length=60)
    pack = models.CharField(max_length=60, blank=True)
    wind_m_s = models.FloatField(null=True, blank=True)
    conditions = models.CharField(max_length=200, blank=True)
    despite = models.CharField(max_length=300, blank=True)  # why it was flown although something stood against it
    opened_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-opened_at", "-id")

    def get_absolute_url(self) -> str:
        return reverse("flights:field", args=[self.pk])


class FieldTap(models.Model):
    """One tap at the field, kept once however often it is sent."""

    outing = models.ForeignKey(Outing, on_delete=models.CASCADE, related_name="taps")
    uid = models.CharField(max_length=36)
    kind = models.CharField(max_length=10)
    at_s = models.FloatField()
    data = models.JSONField(default=dict)
    received_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("at_s", "id")
        constraints = [models.UniqueConstraint(fields=("outing", "uid"), name="one_tap_a_uid")]


class OwnCard(models.Model):
    """A card of the tuner's own. It never changes, since flights of one card are compared; another one takes its place."""

    name = models.CharField(max_length=60)
    craft_kind = models.CharField(max_length=12, choices=Craft.Kind, default=Craft.Kind.MULTIROTOR)
    document = models.JSONField()  # nembrit.card/1
    made_at = models.DateTimeField(auto_now_add=True)
    archived_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ("id",)

    def __str__(self) -> str:
        return self.name

    @property
    def key(self) -> str:
        return f"own-{self.pk}"
