"""A recording as server-sent events (WHATWG HTML, “Server-sent events”): values, alarms, marks; each with its place as its id."""

import asyncio
import json
import time
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from nembrit.core.telemetry.watch import Watch
from nembrit.recorder import folder as files
from nembrit.web.common.stopping import STOP
from nembrit.web.hangar.models import Craft
from nembrit.web.telemetry import recordings

_BEAT_S, _SILENT_S = 0.08, 5.0
_MOST_ROWS = 200  # in one event: a page that comes back after long gets the newest


def event(name: str, data: dict[str, Any], identity: str = "") -> bytes:
    """One event; data in one line, as JSON is.

    >>> event("mark", {"a": 1}, "7")
    b'id: 7\\nevent: mark\\ndata: {"a": 1}\\n\\n'
    """
    head = f"id: {identity}\n" if identity else ""
    return f"{head}event: {name}\ndata: {json.dumps(data)}\n\n".encode()


def place_of(text: str) -> int | None:
    """Where a page left off: its `Last-Event-ID`."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 16 else None


async def events(path: Path, last: int | None, *, craft: Craft, capacity_mah: float | None) -> AsyncIterator[bytes]:
    """From a place in the recording (None: from now, with a little before) until it ends or the page goes."""
    size = (path / files.LINES).stat().st_size if (path / files.LINES).exists() else 0
    offset = min(last, size) if last is not None else await asyncio.to_thread(_start, path, size)
    watch = Watch(cells=craft.cells, capacity_mah=capacity_mah, chemistry=craft.chemistry)
    document = await asyncio.to_thread(files.read, path / files.STATE)
    watch.carry_on(document)
    n_events = n_marks = 0
    looked_s = told_s = 0.0
    yield b"retry: 1000\n\n"
    while not STOP.is_set():
        offset, rows = await asyncio.to_thread(recordings.tail, path, offset, recordings.columns(document))
        if rows:
            shown = [[round(at_s, 3), watch.feed(at_s, values)] for at_s, values in rows][-_MOST_ROWS:]
            yield event("rows", {"rows": shown}, str(offset))
            told_s = time.monotonic()
        if time.monotonic() - looked_s > 0.4:
            looked_s = time.monotonic()
            document = await asyncio.to_thread(files.read, path / files.STATE)
            listed = await asyncio.to_thread(recordings.listed, path / files.EVENTS)
            marks = await asyncio.to_thread(recordings.listed, path / files.MARKS)
            for one in listed[n_events:]:
                yield event("event", one)
            for one in marks[n_marks:]:
                yield event("mark", one)
            n_events, n_marks = len(listed), len(marks)
            yield event(
                "state",
                {key: value for key, value in document.items() if key not in ("values", "columns")} | {"now_s": time.time()},
            )
            if (path / files.ENDED).exists():
                yield event("over", {})
                return
        elif time.monotonic() - told_s > _SILENT_S:
            told_s = time.monotonic()
            yield b": still here\n\n"
        await asyncio.sleep(_BEAT_S)


def _start(path: Path, size: int) -> int:
    """A line's beginning some seconds before the end."""
    start = max(0, size - 60_000)
    if not start:
        return 0
    with (path / files.LINES).open("rb") as file:
        file.seek(start)
        return start + len(file.readline())
