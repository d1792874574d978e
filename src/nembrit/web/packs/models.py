"""Packs, and what was done to them."""

from django.db import models
from django.urls import reverse

from nembrit.web.hangar.models import Craft


class Pack(models.Model):
    """A battery. Flights name it by its name."""

    name = models.CharField(max_length=60, unique=True)
    chemistry = models.CharField(max_length=6, choices=Craft.Chemistry, default=Craft.Chemistry.LIPO)
    cells = models.PositiveSmallIntegerField(default=4)
    capacity_mah = models.FloatField(default=1500.0)
    cycles_before = models.PositiveIntegerField(default=0)  # charges before it was entered here
    note = models.CharField(max_length=300, blank=True)
    added_at = models.DateTimeField(auto_now_add=True)
    retired_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ("retired_at", "name")

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("packs:pack", args=[self.pk])


class PackNote(models.Model):
    """Changes to a pack, or measured on it."""

    class Kind(models.TextChoices):
        CHARGED = "charged", "charged"
        STORED = "stored", "brought to storage voltage"
        MEASURED = "measured", "measured"

    pack = models.ForeignKey(Pack, on_delete=models.CASCADE, related_name="entries")
    kind = models.CharField(max_length=8, choices=Kind, default=Kind.MEASURED)
    rest_v = models.FloatField(null=True, blank=True)  # of the whole pack
    loaded_v = models.FloatField(null=True, blank=True)  # the same under load
    text = models.CharField(max_length=200, blank=True)
    noted_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-noted_at", "-id")
