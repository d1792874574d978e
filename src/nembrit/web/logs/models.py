"""Logs as they are kept: streams, channels in their own sample type, and spans that belong to flights."""

from django.db import models

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft


class Log(models.Model):
    """What one recorder wrote, or what the simulator will write."""

    class State(models.TextChoices):
        WAITING = "waiting"
        READY = "ready"
        REFUSED = "refused"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="logs")
    file_name = models.CharField(max_length=200)
    sha256 = models.CharField(max_length=64, blank=True)
    size_bytes = models.BigIntegerField(default=0)
    format_key = models.CharField(max_length=30, blank=True)
    state = models.CharField(max_length=8, choices=State, default=State.WAITING)
    error = models.TextField(blank=True)
    rows_read = models.PositiveBigIntegerField(default=0)
    quality = models.JSONField(default=list)
    # fields of the flight that the log will become; with "simulation": how to fly it
    request = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-id",)

    @property
    def is_simulated(self) -> bool:
        return "simulation" in self.request


class Upload(models.Model):
    """The file as it came, compressed, kept until the tuner removes it."""

    log = models.OneToOneField(Log, on_delete=models.CASCADE, related_name="upload")
    content = models.BinaryField()


class Stream(models.Model):
    """One time base of a log."""

    log = models.ForeignKey(Log, on_delete=models.CASCADE, related_name="streams")
    n_samples = models.PositiveBigIntegerField()
    sample_rate_hz = models.FloatField()
    start_s = models.FloatField()
    end_s = models.FloatField()


class Channel(models.Model):
    """One recorded quantity: value = samples / divisor × factor. The stream's times have role ``time``."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="channels")
    position = models.PositiveIntegerField()
    role = models.CharField(max_length=60, blank=True)
    name = models.CharField(max_length=200)
    unit = models.CharField(max_length=30, blank=True)
    dtype = models.CharField(max_length=8)
    divisor = models.FloatField(default=1.0)
    factor = models.FloatField(default=1.0)
    labels = models.JSONField(null=True)

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

    class Meta:
        ordering = ("id",)
