"""What stands on the ground, how the ground rises, and what a return must do."""

from typing import Any

from django.db import models

from nembrit.web.hangar.models import Craft


class Obstacle(models.Model):
    """One thing that stands in the way; of the whole workshop, since a field has several craft."""

    class Kind(models.TextChoices):
        POINT = "Point", "a point: a tree, a mast"
        LINE = "LineString", "a line: wires, a row of trees"
        AREA = "Polygon", "an area: a wood, houses"

    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=10, choices=Kind, default=Kind.POINT)
    places = models.JSONField()  # longitude and latitude of each [deg]
    height_m = models.FloatField()  # above the ground at home
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name", "id")

    def __str__(self) -> str:
        return self.name


RULE_FIELDS = (
    "turns_within_s", "turn_way", "lowest_m", "overshoot_most_m", "airspeed_least_m_s", "clear_by_m", "ends", "ends_within_m",
    "battery_least_v",
)  # fmt: skip


class ReturnRule(models.Model):
    """What a return of a craft must do; never changed, written anew, so that it can be told what stood before a flight."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="return_rules")
    turns_within_s = models.FloatField("turns within, s")
    lowest_m = models.FloatField("stays above, m")
    overshoot_most_m = models.FloatField("climbs above its return height by at most, m")
    clear_by_m = models.FloatField("clears obstacles by, m")
    ends = models.CharField("ends by", max_length=6)
    ends_within_m = models.FloatField("comes home within, m")
    turn_way = models.CharField("turns", max_length=6, default="either")
    airspeed_least_m_s = models.FloatField("flies at least, m/s", default=0.0, help_text="0: not asked")
    battery_least_v = models.FloatField("arrives with at least, V", default=0.0, help_text="0: not asked")
    written_at = models.DateTimeField()

    class Meta:
        ordering = ("-written_at", "-id")

    def values(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in RULE_FIELDS}


class CheckLimits(models.Model):
    """What a safety check of a plane must show; never changed, written anew, like the limits of a return."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="check_limits")
    check_key = models.CharField(max_length=20)
    limits = models.JSONField()
    written_at = models.DateTimeField()

    class Meta:
        ordering = ("-written_at", "-id")


class CheckNote(models.Model):
    """Readings of a safety check that was done without a log."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="check_notes")
    check_key = models.CharField(max_length=20)
    readings = models.JSONField()
    note = models.CharField(max_length=300, blank=True)
    done_at = models.DateTimeField()

    class Meta:
        ordering = ("-done_at", "-id")


class Profile(models.Model):
    """Ground heights along a line from the pilot's place."""

    name = models.CharField(max_length=120)
    datum = models.CharField(max_length=80, default="not stated")
    distance_m = models.JSONField()
    ground_m = models.JSONField()
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name", "id")

    def __str__(self) -> str:
        return self.name
