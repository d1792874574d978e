"""Logs as they are kept: streams, channels in their own sample type, and spans that belong to flights."""

from typing import Any

from django.db import models
from django.urls import reverse

from nembrit.core.records.questions import matters
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft


class Log(models.Model):
    """What one recorder wrote, or what the simulator will write."""

    class State(models.TextChoices):
        WAITING = "waiting"
        READY = "ready"
        ASKING = "asking"  # read, but the tuner must say something before it can be used
        REFUSED = "refused"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="logs", null=True)  # none: in the inbox
    file_name = models.CharField(max_length=200)
    digest = models.CharField(
        max_length=64, blank=True, db_index=True
    )  # BLAKE2b of the digests of its 4 MiB pieces, to know it again
    size_bytes = models.BigIntegerField(default=0)
    format_key = models.CharField(max_length=30, blank=True)
    state = models.CharField(max_length=8, choices=State, default=State.WAITING)
    error = models.TextField(blank=True)
    rows_read = models.PositiveBigIntegerField(default=0)
    rows_dropped = models.PositiveBigIntegerField(default=0)
    quality = models.JSONField(default=list)
    preamble = models.JSONField(default=list)  # key–value lines of the file, as pairs
    understood = models.JSONField(default=list)  # what the reader found out about its form
    fingerprint = models.CharField(max_length=64, blank=True)  # the same for files with the same headers
    chosen_mapping = models.JSONField(null=True)  # meanings that the tuner chose; empty: as recognised
    applied_mapping = models.JSONField(null=True)  # meanings that its channels have
    questions = models.JSONField(default=list)
    profile = models.ForeignKey("ImportProfile", on_delete=models.SET_NULL, null=True, related_name="logs")
    recorded_at = models.DateTimeField(null=True)  # first sample, where the file or its date tells
    archived_at = models.DateTimeField(null=True)
    # fields of the flight that the log will become; with "simulation": how to fly it
    request = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-id",)

    @property
    def is_simulated(self) -> bool:
        return "simulation" in self.request

    @property
    def notes(self) -> list[dict[str, Any]]:
        """What is wrong with it, as far as it matters for its craft."""
        kind = self.craft.kind if self.craft else Craft.Kind.MULTIROTOR
        return [note for note in self.quality if matters(note["code"], kind, note.get("column"))]

    def __str__(self) -> str:
        return self.file_name

    def get_absolute_url(self) -> str:
        return reverse("logs:log", args=[self.pk])


class ImportProfile(models.Model):
    """Meanings kept for files whose headers are the same; applied without asking."""

    name = models.CharField(max_length=120)
    fingerprint = models.CharField(max_length=64, unique=True)
    mapping = models.JSONField()
    made_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name


class Upload(models.Model):
    """The file as it came, kept until the tuner removes it: compressed, or waiting for that in the data folder."""

    log = models.OneToOneField(Log, on_delete=models.CASCADE, related_name="upload")
    content = models.BinaryField()
    waiting_name = models.CharField(max_length=40, blank=True)


class Stream(models.Model):
    """One time base of a log. While it is being written, and while it is being thrown away, it is a draft."""

    log = models.ForeignKey(Log, on_delete=models.CASCADE, related_name="streams", null=True)
    draft_of = models.ForeignKey(Log, on_delete=models.CASCADE, related_name="drafts", null=True)
    n_samples = models.PositiveBigIntegerField()
    sample_rate_hz = models.FloatField()
    start_s = models.FloatField()
    end_s = models.FloatField()
    table = models.PositiveIntegerField(default=0)  # place of its table in the file


class Channel(models.Model):
    """One recorded quantity: value = samples / divisor × factor + offset. The stream's times have role ``time``."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="channels")
    position = models.PositiveIntegerField()  # 0 is the time
    column = models.PositiveIntegerField(default=0)  # place in the file's table
    role = models.CharField(max_length=60, blank=True)
    name = models.CharField(max_length=200)
    unit = models.CharField(max_length=30, blank=True)
    dtype = models.CharField(max_length=8)
    divisor = models.FloatField(default=1.0)
    factor = models.FloatField(default=1.0)
    offset = models.FloatField(default=0.0)
    labels = models.JSONField(null=True)
    stated_unit = models.CharField(max_length=30, blank=True)  # as the file says it
    confidence = models.FloatField(null=True)
    reason = models.TextField(blank=True)
    stats = models.JSONField(default=dict)  # low, high, mean and missing share of the numbers as written

    class Meta:
        ordering = ("position",)


class Chunk(models.Model):
    """Up to 65,536 samples of one channel, packed."""

    channel = models.ForeignKey(Channel, on_delete=models.CASCADE, related_name="chunks")
    index = models.PositiveIntegerField()
    n_samples = models.PositiveIntegerField()
    content = models.BinaryField()

    class Meta:
        ordering = ("index",)
        constraints = [models.UniqueConstraint(fields=("channel", "index"), name="one_chunk_an_index")]


class Pyramid(models.Model):
    """Lowest and highest value of every 64 samples, float32 interleaved, packed: for views of whole logs."""

    channel = models.OneToOneField(Channel, on_delete=models.CASCADE, related_name="pyramid")
    content = models.BinaryField()


class Segment(models.Model):
    """A span of a log that belongs to a flight."""

    log = models.ForeignKey(Log, on_delete=models.CASCADE, related_name="segments")
    flight = models.ForeignKey(Flight, on_delete=models.CASCADE, related_name="segments")
    start_s = models.FloatField()
    end_s = models.FloatField()
    offset_s = models.FloatField(default=0.0)
    skew_ppm = models.FloatField(default=0.0)
    is_window_chosen = models.BooleanField(default=False)  # by the tuner, not by detection
    alignment = models.JSONField(default=dict)  # how offset and skew were found; empty: never lined up

    class Meta:
        ordering = ("id",)


class Manoeuvre(models.Model):
    """A stretch of a log with a name, found or set by the tuner; times in the log's own clock."""

    log = models.ForeignKey(Log, on_delete=models.CASCADE, related_name="manoeuvres")
    kind = models.CharField(max_length=20)
    axis = models.CharField(max_length=5, blank=True)
    start_s = models.FloatField()
    end_s = models.FloatField()
    is_edited = models.BooleanField(default=False)
    is_removed = models.BooleanField(default=False)  # the tuner says there is none; detection shall not bring it back

    class Meta:
        ordering = ("start_s", "id")


class FlightMark(models.Model):
    """A moment of a flight that the tuner marked, in the time of its traces."""

    flight = models.ForeignKey(Flight, on_delete=models.CASCADE, related_name="marks")
    at_s = models.FloatField()
    text = models.CharField(max_length=120)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("at_s", "id")


class VideoSync(models.Model):
    """How a video file, known by name, size and date, lines up with a flight. The file stays in the browser."""

    flight = models.ForeignKey(Flight, on_delete=models.CASCADE, related_name="video_syncs")
    file_name = models.CharField(max_length=255)
    size_bytes = models.BigIntegerField()
    modified_ms = models.BigIntegerField()
    pairs = models.JSONField()  # moments picked, as [video, log]: log = offset + rate × video
    made_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("id",)
        constraints = [
            models.UniqueConstraint(fields=("flight", "file_name", "size_bytes", "modified_ms"), name="one_sync_a_video")
        ]
