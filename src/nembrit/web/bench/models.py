"""Stored results: no analysis is repeated when nothing changed."""

from django.db import models

from nembrit.web.logs.models import Segment


class StoredResult(models.Model):
    """What one analysis, in one version, found in one segment."""

    segment = models.ForeignKey(Segment, on_delete=models.CASCADE, related_name="results")
    analysis = models.CharField(max_length=30)
    version = models.PositiveIntegerField()
    # what the answer depends on beside the samples: the window and the mixer
    parameters = models.JSONField(default=dict)
    payload = models.JSONField()
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("segment", "analysis"), name="one_result_an_analysis")]
