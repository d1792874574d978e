"""Processes that run beside the server as long as it does, however it ends."""

import contextlib
import subprocess
import sys
import threading
import time
from collections.abc import Sequence


class Beside(threading.Thread):
    """Keeps one process of ours running; it ends by itself when this one is gone: its standard input ends then."""

    def __init__(self, *words: str, descriptors: Sequence[int] = (), may_outlive: bool = False) -> None:
        """`may_outlive`: it is told that the server ends, and ends when its own work is done."""
        super().__init__(daemon=True)
        self._may_outlive = may_outlive
        self._words = [sys.executable, "-m", *words]
        self._descriptors = tuple(descriptors)
        self._stopping = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None

    def run(self) -> None:
        wait_s = 0.5
        while not self._stopping.is_set():
            started = time.monotonic()
            self._process = subprocess.Popen(
                self._words, stdin=subprocess.PIPE, start_new_session=True, pass_fds=self._descriptors
            )
            self._process.wait()
            wait_s = 0.5 if time.monotonic() - started > 30 else min(30.0, wait_s * 2)
            self._stopping.wait(wait_s)

    def stop(self) -> None:
        self._stopping.set()
        process = self._process
        if process is None or process.stdin is None:
            return
        with contextlib.suppress(OSError):
            process.stdin.close()
        if self._may_outlive:
            return
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
