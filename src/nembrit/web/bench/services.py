"""What the bench's views need of core."""

from nembrit.core.tuning.repairs import repair_for
from nembrit.core.types import AXES
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.logs.models import Log
from nembrit.web.logs.storage import main_stream

__all__ = ["AXES", "repair_for", "sample_rate_hz"]


@while_unchanged
def sample_rate_hz(log: Log) -> float:
    """Rate of the stream that a log is analysed by."""
    return main_stream(log).sample_rate_hz
