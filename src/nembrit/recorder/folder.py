"""A recording on disk: lines that are only ever added to, and small files that are replaced whole."""

import json
import os
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

LINES, EVENTS, MARKS, STATE, WANTED, COLUMNS, STOP, ENDED = (
    "lines.log", "events.log", "marks.log", "state.json", "wanted.json", "columns.json", "stop", "ended",
)  # fmt: skip
_FLUSH_S, _SYNC_S = 0.05, 1.0


class Appended:
    """One file that grows: written out twenty times a second, onto the disk once a second."""

    def __init__(self, path: Path) -> None:
        _cut_half_line(path)
        self._file = path.open("ab", buffering=0)
        self._waiting: list[bytes] = []
        self._flushed_s = self._synced_s = time.monotonic()

    def add(self, line: bytes) -> None:
        self._waiting.append(line + b"\n")

    def flush(self, *, now: bool = False) -> None:
        """Write what waits, if it waited long enough. Raises OSError where the disk is full: then it goes on waiting."""
        at = time.monotonic()
        if self._waiting and (now or at - self._flushed_s >= _FLUSH_S):
            data = b"".join(self._waiting)
            written = self._file.write(data) or 0
            rest = data[written:]
            self._waiting = [rest] if rest else []
            self._flushed_s = at
        if now or at - self._synced_s >= _SYNC_S:
            os.fsync(self._file.fileno())
            self._synced_s = at

    def forget_waiting(self, most: int) -> int:
        """Throw away the oldest lines beyond so many; how many."""
        lost = max(0, len(self._waiting) - most)
        self._waiting = self._waiting[lost:]
        return lost

    def close(self) -> None:
        self.flush(now=True)
        self._file.close()


def _cut_half_line(path: Path) -> None:
    """A line that was cut off when the recorder was killed is taken out, so that the next one starts on its own."""
    if not path.exists() or not path.stat().st_size:
        return
    with path.open("r+b") as file:
        file.seek(max(0, path.stat().st_size - 65_536))
        start, tail = file.tell(), file.read()
        if not tail.endswith(b"\n"):
            file.truncate(start + tail.rfind(b"\n") + 1)


def replace(path: Path, document: Mapping[str, Any]) -> None:
    """Put a small file in place of the old one, whole or not at all."""
    beside = path.with_suffix(".new")
    beside.write_text(json.dumps(document))
    os.replace(beside, path)


def read(path: Path) -> dict[str, Any]:
    """A small file's content; empty where there is none or it cannot be read."""
    try:
        document = json.loads(path.read_text())
    except (OSError, ValueError):
        return {}
    return document if isinstance(document, dict) else {}
