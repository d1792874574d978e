"""Sessions that are planned: when to go out with a craft, and for what."""

import uuid

from django.db import models

from nembrit.web.hangar.models import Craft


class Session(models.Model):
    """One outing that is planned. Its time is the wall clock's, wherever the field is."""

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="sessions")
    uid = models.UUIDField(default=uuid.uuid4, unique=True)  # calendars know it again by this
    starts_at = models.DateTimeField()
    minutes = models.PositiveSmallIntegerField(default=90)
    what = models.CharField(max_length=120)
    place = models.CharField(max_length=120, blank=True)
    card_key = models.CharField(max_length=60, blank=True)
    note = models.CharField(max_length=300, blank=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("starts_at", "id")

    def __str__(self) -> str:
        return self.what
