"""Twenty clients at once on the demo: how long its pages take, and how much memory the server needs.

`python -m benchmarks.clients [FOLDER] [SECONDS] [PAUSE] [EVERY]` serves a folder that `demo` made, or makes one (two
minutes); clients wait for PAUSE seconds
between an answer and the next question, for none if it is left out; every EVERY seconds something is written, which makes the
server forget what it remembers of pages. Reference: the style sheet, a file of
the same size of the same server, asked for by the same twenty clients. A tab that comes back asks for the same page again.
"""

import contextlib
import http.client
import re
import signal
import socket
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

N_CLIENTS = 20
PAGES = (
    "/", "/craft/1/", "/craft/1/tune/", "/inbox/", "/slips/1/", "/craft/1/flights/1/",
    "/craft/1/flights/1/noise/", "/craft/1/flights/1/vibration/",
    "/craft/1/flights/12/sensors/", "/craft/1/flights/12/traces/", "/logs/2/", "/craft/1/flights/1/noise/?axis=yaw&by=time",
)  # fmt: skip
REFERENCE = ("/static/common/nembrit.css",)


def served(folder: Path) -> tuple[subprocess.Popen[str], int]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    words = [sys.executable, "-m", "nembrit.web.server", "demo", "--port", str(port), "--data", str(folder)]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        if line.startswith("Nembrit is ready"):
            return process, port
    raise SystemExit("the server did not start")


def asked(port: int, pages: tuple[str, ...], seconds: float, pause_s: float = 0.0) -> tuple[dict[str, list[float]], list[str]]:
    """Seconds of every answer by page, and answers that were not 200."""
    took: dict[str, list[float]] = {page: [] for page in pages}
    wrong: list[str] = []
    end = time.monotonic() + seconds

    def client(n: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        k = n
        while time.monotonic() < end:
            page = pages[k % len(pages)]
            k += 1
            began = time.monotonic()
            connection.request("GET", page)
            answer = connection.getresponse()
            answer.read()
            took[page].append(time.monotonic() - began)
            if answer.status != 200:
                wrong.append(f"{page}: {answer.status}")
            time.sleep(pause_s)

    threads = [threading.Thread(target=client, args=(n,)) for n in range(N_CLIENTS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return took, wrong


@contextlib.contextmanager
def written(folder: Path, every_s: float) -> Iterator[None]:
    """Meanwhile, something else writes a row as it is."""
    ended = threading.Event()

    def write() -> None:
        with contextlib.closing(sqlite3.connect(folder / "workshop.sqlite3", timeout=30, isolation_level=None)) as database:
            while not ended.wait(every_s):
                database.execute("UPDATE hangar_craft SET name = name WHERE id = 1")

    writer = threading.Thread(target=write)
    if every_s:
        writer.start()
    yield
    ended.set()
    if every_s:
        writer.join()


def peak_mb(process: subprocess.Popen[str]) -> dict[str, float]:
    """The most memory that each process of the server ever held."""
    peaks = {}
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            told = (entry / "status").read_text()
            words = (entry / "cmdline").read_text().split("\0")
        except OSError:
            continue
        if process.pid in (int(entry.name), int(re.search(r"PPid:\s+(\d+)", told)[1])):  # type: ignore[index]  # always there
            peaks[words[2]] = int(re.search(r"VmHWM:\s+(\d+)", told)[1]) / 1024  # type: ignore[index]  # the same
    return peaks


def main(folder: str = "", seconds: str = "20", pause_s: str = "0", every_s: str = "0") -> None:
    with tempfile.TemporaryDirectory() as made:
        _measure(Path(folder or made), seconds, pause_s, every_s)


def _measure(folder: Path, seconds: str, pause_s: str, every_s: str) -> None:
    process, port = served(folder)
    try:
        asked(port, PAGES, 3)  # caches and compiled templates, as in use
        reference, _ = asked(port, REFERENCE, 5)
        base = statistics.median(reference[REFERENCE[0]])
        with written(folder, float(every_s)):
            took, wrong = asked(port, PAGES, float(seconds), float(pause_s))
        every = [one for times in took.values() for one in times]
        p50, p95 = np.quantile(every, [0.5, 0.95])
        print(f"{len(every)} answers in {seconds} s with pauses of {pause_s} s, {len(wrong)} wrong {wrong[:3]}")
        print(f"median {p50 * 1e3:.0f} ms, p95 {p95 * 1e3:.0f} ms")
        print(f"the reference's median {base * 1e3:.1f} ms, p95 {p95 / base:.0f} times it")
        for page, times in took.items():
            print(f"  {page:38} n {len(times):4}  p95 {np.quantile(times, 0.95) * 1e3:6.0f} ms")
        for name, mb in peak_mb(process).items():
            print(f"peak memory of {name} {mb:.0f} MB")
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(20)


if __name__ == "__main__":
    main(*sys.argv[1:])
