"""Where a craft's telemetry comes from, what is recorded of it, and what was read over its link."""

from django.db import models
from django.urls import reverse

from nembrit.core.telemetry.alarms import KINDS as ALARMS
from nembrit.recorder.sources import KINDS
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs.models import Log


class Source(models.Model):
    """One craft's source, its meanings, and the link for its settings."""

    craft = models.OneToOneField(Craft, on_delete=models.CASCADE, related_name="telemetry")
    kind = models.CharField("how it comes", max_length=12, choices=list(KINDS.items()), default="udp")
    host = models.CharField("address", max_length=100, default="127.0.0.1", blank=True)
    port = models.PositiveIntegerField(default=14_600)
    device = models.CharField("serial port", max_length=120, blank=True)
    baud = models.PositiveIntegerField("baud", default=57_600)
    capacity_mah = models.FloatField("pack, mAh", null=True, blank=True)
    meanings = models.JSONField(default=list, blank=True)  # columns as the tuner gave them; empty: as recognised
    link_host = models.CharField("settings link: address", max_length=100, default="127.0.0.1", blank=True)
    link_port = models.PositiveIntegerField("settings link: port", null=True, blank=True)

    def __str__(self) -> str:
        return f"telemetry of {self.craft}"


class Alarm(models.Model):
    """A limit of a craft."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="alarms")
    key = models.CharField(max_length=20, choices=[(key, kind[1]) for key, kind in ALARMS.items()])
    limit = models.FloatField()
    delay_s = models.FloatField()
    hysteresis = models.FloatField()
    is_on = models.BooleanField(default=True)

    class Meta:
        ordering = ("id",)
        constraints = [models.UniqueConstraint(fields=("craft", "key"), name="one_alarm_a_key")]


class Recording(models.Model):
    """What was recorded, in a folder of its own; it becomes a log when it ends."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="recordings")
    folder = models.CharField(max_length=40)
    address = models.CharField(max_length=200, blank=True)
    started_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True, blank=True)
    log = models.ForeignKey(Log, on_delete=models.SET_NULL, null=True, related_name="recordings")
    flight = models.ForeignKey(Flight, on_delete=models.SET_NULL, null=True, related_name="recordings")

    class Meta:
        ordering = ("-started_at", "-id")

    def get_absolute_url(self) -> str:
        return reverse("telemetry:recording", args=[self.pk])


class LinkRead(models.Model):
    """Settings as the craft itself said them."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="link_reads")
    at = models.DateTimeField(auto_now_add=True)
    settings = models.JSONField()
    is_saved = models.BooleanField()
    configuration = models.ForeignKey(Configuration, on_delete=models.SET_NULL, null=True)  # that says the same

    class Meta:
        ordering = ("-at", "-id")
