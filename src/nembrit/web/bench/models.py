"""Stored results: no analysis is repeated when nothing changed."""

from collections.abc import Iterable

from django.db import models

from nembrit.core.analysis.run import ANALYSES
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Segment


class StoredResultQuerySet(models.QuerySet["StoredResult"]):
    def current(self, keys: Iterable[str] = ANALYSES) -> "StoredResultQuerySet":
        """Those of the named analyses that are still valid: made by the present version of their analysis.

        What an answer rests on (window, manoeuvres, meanings, craft) is not looked at: whoever changes that sends
        `segment_ready`, which throws the answers away in the same transaction.
        """
        valid = models.Q(pk__in=())
        for key in keys:
            valid |= models.Q(analysis=key, version=ANALYSES[key].version)
        return self.filter(valid)


class StoredResult(models.Model):
    """What one analysis, in one version, found in one segment."""

    segment = models.ForeignKey(Segment, on_delete=models.CASCADE, related_name="results")
    analysis = models.CharField(max_length=30)
    version = models.PositiveIntegerField()
    content = models.BinaryField(default=b"")  # the typed result as JSON, packed
    made_at = models.DateTimeField(auto_now_add=True)

    objects = StoredResultQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=("segment", "analysis"), name="one_result_an_analysis")]


class StoredDecision(models.Model):
    """What to do after one flight, as long as the digest of all that it rests on stays the same."""

    flight = models.OneToOneField(Flight, on_delete=models.CASCADE, related_name="stored_decision")
    stamp = models.CharField(max_length=64)
    content = models.BinaryField()  # the typed decision as JSON, packed
