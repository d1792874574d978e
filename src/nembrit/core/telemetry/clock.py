"""What a source's own clock and counter say about the way the lines took: lost, doubled, late, and jumps of the clock."""

import math
from dataclasses import dataclass, field

_JUMP_S, _SILENT_S = 2.0, 2.0
_KEPT = 64


@dataclass(slots=True)
class Way:
    """Counts over a recording; `feed` takes each row's receive time, and the sender's time and counter where there are any."""

    rate_hz: float = 0.0  # of rows, over the last seconds
    jitter_s: float = 0.0  # mean of how far rows come from an even beat
    dropped: int = 0
    doubled: int = 0
    late: int = 0  # came after a newer one
    jumps: int = 0  # of the sender's clock against ours
    gaps: list[tuple[float, float]] = field(default_factory=list)  # receive times around a silence
    last_s: float | None = None
    _offset_s: float | None = None
    _newest: float | None = None
    _counter: int | None = None
    _step: float = 0.0

    def feed(self, receive_s: float, sent_s: float | None = None, counter: int | None = None) -> bool:
        """Take one row; False for one that is doubled, which need not be kept."""
        if counter is not None and self._counter is not None:
            step = counter - self._counter
            if step == 0:
                self.doubled += 1
                return False
            if step < 0 and step > -1000:
                self.late += 1
                return True
            self.dropped += max(0, step - 1) if 0 < step < 100_000 else 0
        self._counter = counter if counter is not None else self._counter
        if sent_s is not None and counter is None and self._newest is not None:
            if sent_s == self._newest:
                self.doubled += 1
                return False
            if self._newest - _JUMP_S < sent_s < self._newest:
                self.late += 1
                return True
        if sent_s is not None:
            offset = receive_s - sent_s
            if self._offset_s is not None and abs(offset - self._offset_s) > _JUMP_S:
                self.jumps += 1
            self._offset_s, self._newest = offset, sent_s
        if self.last_s is not None:
            step_s = max(0.0, receive_s - self.last_s)
            if step_s > _SILENT_S:
                self.gaps = [*self.gaps[-_KEPT:], (self.last_s, receive_s)]
            else:
                share = 1 - math.exp(-max(step_s, 1e-3) / 2.0)
                self.jitter_s += (abs(step_s - self._step) - self.jitter_s) * share if self._step else 0.0
                self._step += (step_s - self._step) * share if self._step else step_s
                self.rate_hz = 1 / self._step if self._step > 1e-4 else self.rate_hz
        self.last_s = receive_s
        return True
