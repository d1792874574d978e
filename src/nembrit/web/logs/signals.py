"""What later apps may listen to."""

from django.dispatch import Signal

segment_ready = Signal()  # sent with `segment` when a log has become part of a flight
