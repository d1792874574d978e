"""One recording under way: what a source sends, written down, understood, watched."""

import json
import threading
import time
from pathlib import Path
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.telemetry.alarms import Alarms, Rule
from nembrit.core.telemetry.clock import Way
from nembrit.core.telemetry.lines import LineReader
from nembrit.core.telemetry.meaning import LEAST_ROWS, LiveColumn, columns_of, values_of
from nembrit.core.telemetry.shake import Shake
from nembrit.core.telemetry.tally import Tally
from nembrit.core.telemetry.watch import Watch
from nembrit.recorder import folder as files
from nembrit.recorder.sources import SourceAddress, stream

_STATE_S, _LEARN_S, _MOST_WAITING = 0.4, 3.0, 200_000
_SILENCE_LOOK_S = 0.1


class Recording(threading.Thread):
    """Writes until a file named `stop` lies beside it."""

    def __init__(self, path: Path) -> None:
        super().__init__(daemon=True, name=f"recording {path.name}")
        self._path = path
        wanted = files.read(path / files.WANTED)
        self._address = SourceAddress.of(wanted.get("source", {}))
        self._reader, self._way = LineReader(), Way()
        self._watch = Watch(
            cells=int(wanted.get("cells", 4)), capacity_mah=wanted.get("capacity_mah"), chemistry=wanted.get("chemistry", "lipo")
        )
        self._shake, self._tally = Shake(), Tally()
        self._alarms = Alarms(rules=_rules(wanted.get("rules", [])))
        self._columns: tuple[LiveColumn, ...] = tuple(LiveColumn(**one) for one in wanted.get("columns", []))
        self._known = frozenset(one.name for one in self._columns)
        self._chosen: list[dict[str, Any]] = []
        self._first: list[dict[str, float | str]] = []
        self._began_s = 0.0
        self._problem, self._disk = "", ""
        self._lost_on_disk = 0
        self._values: dict[str, float | str] = {}
        self._stated_s = self._asked_s = 0.0
        self._leave = threading.Event()

    def leave(self) -> None:
        """End without marking the recording as ended: it goes on when a recorder starts again."""
        self._leave.set()

    def run(self) -> None:
        path = self._path
        self._lines, self._events = files.Appended(path / files.LINES), files.Appended(path / files.EVENTS)
        before = files.read(path / files.STATE)
        if before.get("last_s"):  # a recorder was killed here: the gap is marked
            self._event(
                {"kind": "gap", "from_s": before["last_s"], "at_s": time.time(), "words": "The recorder was started again"}
            )
            self._watch.carry_on(before)
            self._tally = Tally.of(before.get("tally", {}))
        for data in stream(self._address, self._is_over, self._tell):
            self._take(data)
            self._write()
        self._state(is_ended=not self._leave.is_set())
        self._lines.close()
        self._events.close()
        if not self._leave.is_set():
            (path / files.ENDED).write_text(f"{time.time():.3f}")

    def _is_over(self) -> bool:
        return self._leave.is_set() or (self._path / files.STOP).exists()

    def _tell(self, problem: str) -> None:
        if problem != self._problem:
            self._problem = problem
            words = problem or "Receiving again"
            self._event({"kind": "source", "at_s": time.time(), "words": words, "is_on": bool(problem)})

    def _take(self, data: bytes) -> None:
        now_s = time.time()
        for row in self._reader.feed(data) if data else ():
            self._learn(row, now_s)
            values = values_of(row, self._columns)
            sent, counter = values.get("time"), values.get("counter")
            is_new = self._way.feed(
                now_s, sent if isinstance(sent, float) else None, int(counter) if isinstance(counter, float) else None
            )
            if not is_new:
                continue
            self._lines.add(f"{now_s:.4f}\t{json.dumps(row, separators=(',', ':'))}".encode())
            values = self._watch.feed(now_s, values)
            self._tally.feed(now_s, values)
            self._shake.feed(now_s, values)
            if self._shake.noise:
                values["oscillation_dps"] = self._shake.line_dps
            self._values |= values
            self._raise(now_s, values)
        last_s = self._way.last_s
        if last_s is not None and now_s - self._asked_s > _SILENCE_LOOK_S:
            self._asked_s = now_s
            self._renew_columns()
            self._raise(now_s, {"silence_s": now_s - last_s})

    def _learn(self, row: dict[str, float | str], now_s: float) -> None:
        """Find out what the columns mean from the first rows, and anew where one comes that was never seen."""
        if self._known and row.keys() <= self._known:
            return
        self._first.append(row)
        if len(self._first) == 1:
            self._began_s = now_s
        if len(self._first) >= LEAST_ROWS or now_s - self._began_s > _LEARN_S:
            found = columns_of(self._first)
            self._columns = (*self._columns, *(one for one in found if one.name not in self._known))
            self._known = frozenset(one.name for one in self._columns)
            self._first = []

    def _renew_columns(self) -> None:
        """Take the meanings that the tuner gave while it records."""
        chosen = files.read(self._path / files.COLUMNS).get("columns")
        if chosen and chosen != self._chosen:
            self._chosen = chosen
            own = {one["name"]: LiveColumn(**one) for one in chosen}
            others = [one for one in self._columns if one.name not in own]
            self._columns = (*own.values(), *others)
            self._known = frozenset(one.name for one in self._columns)
            self._values = {}

    def _raise(self, now_s: float, values: dict[str, float | str]) -> None:
        for event in self._alarms.feed(now_s, values):
            self._event(
                {"kind": "alarm", "at_s": event.at_s, "key": event.key, "is_on": event.is_on, "value": event.value,
                 "words": event.words}
            )  # fmt: skip

    def _event(self, document: dict[str, Any]) -> None:
        self._events.add(json.dumps(document).encode())

    def _write(self) -> None:
        try:
            self._lines.flush()
            self._events.flush()
            if time.monotonic() - self._stated_s > _STATE_S:
                self._state()
            self._disk = ""
        except OSError as error:
            self._disk = f"Cannot write: {error.strerror}. Free some disk space; the newest lines are waiting"
            self._lost_on_disk += self._lines.forget_waiting(_MOST_WAITING)
            time.sleep(0.2)

    def _state(self, *, is_ended: bool = False) -> None:
        counts, way = self._reader.counts, self._way
        files.replace(
            self._path / files.STATE,
            {
                "at_s": time.time(), "last_s": way.last_s, "rate_hz": way.rate_hz, "jitter_s": way.jitter_s,
                "lines": counts.lines,
                "rows": counts.rows, "garbage": counts.garbage, "wrong_checksum": counts.wrong_checksum,
                "too_long": counts.too_long, "last_bad": counts.last_bad, "dropped": way.dropped, "doubled": way.doubled,
                "late": way.late, "jumps": way.jumps, "gaps": way.gaps, "problem": self._disk or self._problem,
                "lost_on_disk": self._lost_on_disk, "on": self._alarms.on, "is_ended": is_ended, "values": self._values,
                **self._watch.carried, "tally": self._tally.as_document(),
                "noise": [
                    {"axis": one.axis, "bands": one.bands, "line_hz": one.line_hz, "line_dps": one.line_dps}
                    for one in self._shake.noise
                ],
                "columns": [
                    {"name": one.name, "key": one.key, "unit": one.unit, "factor": one.factor, "offset": one.offset,
                     "confidence": one.confidence}
                    for one in self._columns
                ],
            },
        )  # fmt: skip
        self._stated_s = time.monotonic()


def _rules(documents: list[dict[str, Any]]) -> list[Rule]:
    found = []
    for one in documents:
        try:
            found.append(Rule(**one))
        except (InputError, TypeError):
            continue
    return found
