"""The owner, and long work as rows that survive a restart."""

from django.contrib.auth.models import AbstractUser
from django.db import models


class User(AbstractUser):
    """A person of the workshop. On loopback there is one, the owner, without a login."""


class Phone(models.Model):
    """One browser in the local network that gave the passphrase."""

    mark = models.CharField(max_length=64, unique=True)
    agent = models.CharField(max_length=120, blank=True)
    address = models.CharField(max_length=45, blank=True)
    came_at = models.DateTimeField(auto_now_add=True)
    seen_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-came_at",)


class JobQuerySet(models.QuerySet["Job"]):
    def unfinished(self) -> "JobQuerySet":
        return self.filter(state__in=(Job.State.WAITING, Job.State.RUNNING))

    def about(self, kind: str, subject_id: int) -> "JobQuerySet":
        return self.filter(kind=kind, subject_id=subject_id)


class Job(models.Model):
    """One piece of long work: its stage and share for the page, its end for good."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    kind = models.CharField(max_length=30)
    subject_id = models.BigIntegerField()
    label = models.CharField(max_length=200)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    stage = models.CharField(max_length=120, blank=True)
    share_ratio = models.FloatField(default=0.0)
    error = models.TextField(blank=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    is_cancel_wanted = models.BooleanField(default=False)
    created_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)

    objects = JobQuerySet.as_manager()

    class Meta:
        ordering = ("-id",)
        indexes = [models.Index(fields=("kind", "subject_id"))]

    @property
    def is_unfinished(self) -> bool:
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def share_pct(self) -> int:
        return round(100 * self.share_ratio)


class SentForm(models.Model):
    """A form that was sent and where it led."""

    mark = models.CharField(max_length=64, unique=True)
    address = models.CharField(max_length=500)
    sent_at = models.DateTimeField(auto_now_add=True)
