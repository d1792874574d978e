"""Live telemetry under load: lines kept at 2,000 a second, what the recorder takes, time from line to browser, kills.

`python -m benchmarks.live [SECONDS] [KILLS]`; part of `check --full` with ten minutes and fifty kills.
`live_served` has the browser's side.
"""

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from nembrit.recorder import folder as files

_TICKS = os.sysconf("SC_CLK_TCK")


def _port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _recorder(folder: Path) -> "subprocess.Popen[bytes]":
    return subprocess.Popen(
        [sys.executable, "-m", "nembrit.recorder", str(folder)], stdin=subprocess.PIPE, start_new_session=True
    )


def _wanted(folder: Path, port: int) -> Path:
    path = folder / "1"
    path.mkdir(parents=True)
    files.replace(path / files.WANTED, {"source": {"kind": "udp", "host": "127.0.0.1", "port": port}, "cells": 4, "rules": []})
    return path


def _until_ready(path: Path) -> None:
    for _ in range(400):
        if files.read(path / files.STATE):
            return
        time.sleep(0.05)


def _row(n: int) -> bytes:
    return json.dumps({"n": n, "at": time.time()} | {f"ch{k} [V]": round(random.random(), 3) for k in range(20)}).encode()


def _process(pid: int) -> tuple[float, float]:
    """Seconds of processor and MB of memory."""
    stat = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    return (int(stat[11]) + int(stat[12])) / _TICKS, pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def flood(seconds: float, rate: float = 2000.0) -> str:
    """Every line that was sent against every line that was kept."""
    with tempfile.TemporaryDirectory() as where:
        port = _port()
        path = _wanted(Path(where), port)
        process = _recorder(Path(where))
        _until_ready(path)
        before, _ = _process(process.pid)
        began, n = time.monotonic(), 0
        rows = [_row(k) for k in range(500)]
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            while time.monotonic() - began < seconds:
                due = int((time.monotonic() - began) * rate)
                while n < due:
                    line.sendto(b'{"seq": %d, ' % n + rows[n % 500][1:], ("127.0.0.1", port))
                    n += 1
                time.sleep(0.005)
        took = time.monotonic() - began
        time.sleep(1.5)
        after, memory = _process(process.pid)
        kept = sum(1 for _ in (path / files.LINES).open("rb"))
        process.kill()
        process.wait()
    return (
        f"| {rate:.0f} lines a second, 22 columns, {took:.0f} s | {n - kept} of {n} lost; "
        f"{100 * (after - before) / took:.0f} % of a core; {memory:.0f} MB | none; 25 %; 150 MB |"
    )


def kills(n_kills: int = 12) -> str:
    """The longest stretch of lines that a kill cost, before it."""
    worst = 0.0
    with tempfile.TemporaryDirectory() as where:
        port = _port()
        path = _wanted(Path(where), port)
        stop, sent = threading.Event(), []

        def send() -> None:
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
                while not stop.is_set():
                    sent.append(time.time())
                    line.sendto(json.dumps({"n": len(sent), "v": 1}).encode(), ("127.0.0.1", port))
                    time.sleep(0.01)

        sender = threading.Thread(target=send, daemon=True)
        for k in range(n_kills):
            process = _recorder(Path(where))
            _until_ready(path)
            if not k:
                sender.start()
            time.sleep(1.5 + random.random() * 1.5)
            killed = time.time()
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
            kept = set()
            for line in (path / files.LINES).read_bytes().splitlines():
                with contextlib.suppress(ValueError, IndexError, KeyError):
                    kept.add(json.loads(line.split(b"\t", 1)[1])["n"])
            last = max(kept, default=0)
            if last:
                worst = max(worst, killed - sent[int(last) - 1])
            (path / files.STATE).unlink(missing_ok=True)
        stop.set()
    return f"| {n_kills} kills at random | at most {worst:.2f} s missing | 1 s |"


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 30.0
    print("| what | came out | demanded |\n|---|---|---|")
    print(flood(seconds), flush=True)
    print(kills(int(sys.argv[2]) if len(sys.argv) > 2 else 12), flush=True)


if __name__ == "__main__":
    main()
