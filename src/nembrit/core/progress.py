"""How a long reading reports its progress; a callback that raises stops the work."""

from collections.abc import Callable

Progress = Callable[[str, float], None]  # stage in words, share done 0..1


def no_progress(stage: str, share_ratio: float) -> None:
    """Report to nobody."""
