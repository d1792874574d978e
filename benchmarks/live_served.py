"""Live telemetry in the browser: from a line received to its value on screen, and ten hours of it.

`python -m benchmarks.live_served [LATENCY_SECONDS] [HOURS]` serves a workshop of its own, opens the live page in four browsers
of Debian's chromium and sends lines of 20 channels. The hours pass faster than they last: 20 lines for a second of them, 2,000
lines a second on the line. Part of `check --full`.
"""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from playwright.sync_api import CDPSession, Page, sync_playwright

from benchmarks.live import _port, _process, _row
from tests.e2e.conftest import CHROMIUM, free_port, start, wait_until_ready

N_BROWSERS = 4
_MAKE = """
import django
django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from nembrit.web.hangar.services import create_craft
from nembrit.web.telemetry.models import Source
craft = create_craft(layout="hex", name="Ten Hours", kind="multirotor")
Source.objects.create(craft=craft, kind="udp", host="127.0.0.1", port={port})
"""
_WATCH = """
window.seen_s = [];
const Plain = window.EventSource;
window.EventSource = class extends Plain {
  constructor(...given) {
    super(...given);
    this.addEventListener("rows", (event) => {
      const rows = JSON.parse(event.data).rows;
      requestAnimationFrame(() => requestAnimationFrame(() => {
        for (const [at] of rows) seen_s.push(Date.now() / 1000 - at);
        if (seen_s.length > 100000) seen_s.length = 0;
      }));
    });
  }
};
"""


def send(port: int, *, rate: float, seconds: float) -> int:
    """So many lines a second for so long; how many it were."""
    began, n = time.monotonic(), 0
    rows = [_row(k) for k in range(500)]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        while time.monotonic() - began < seconds:
            due = int((time.monotonic() - began) * rate)
            while n < due:
                line.sendto(b'{"seq": %d, ' % n + rows[n % 500][1:], ("127.0.0.1", port))
                n += 1
            time.sleep(0.005)
    return n


def latency(pages: list[Page], port: int, seconds: float) -> str:
    send(port, rate=50, seconds=5)
    for page in pages:
        page.evaluate("seen_s.length = 0")
    send(port, rate=50, seconds=seconds)
    seen = np.array([one for page in pages for one in page.evaluate("seen_s")])
    p50, p95 = np.quantile(seen, (0.5, 0.95)) * 1000
    what = f"line received to value on screen, 50 lines a second, 22 columns, {len(pages)} browsers"
    return f"| {what} | p95 {p95:.0f} ms, median {p50:.0f} ms ({len(seen)} values) | 250 ms |"


def heap_mb(metrics: CDPSession) -> float:
    metrics.send("HeapProfiler.collectGarbage")
    return float(metrics.send("Runtime.getHeapUsage")["usedSize"]) / 1e6


def hours(page: Page, port: int, pid: int, n_hours: float) -> str:
    """Memory of the recorder and of the page after a tenth of the time, and at its end."""
    rate = 2000.0
    seconds = n_hours * 3600 * 20 / rate
    metrics = page.context.new_cdp_session(page)
    n = send(port, rate=rate, seconds=seconds / 10)
    recorder, heap = _process(pid)[1], heap_mb(metrics)
    n += send(port, rate=rate, seconds=seconds * 0.9)
    after, heap_after = _process(pid)[1], heap_mb(metrics)
    grown = f"recorder {_grown(recorder, after)}, heap of the page {_grown(heap, heap_after)}"
    return f"| {n_hours:g} hours at 20 Hz ({n} lines, {rate:.0f} a second) | {grown} | flat within 10 % |"


def _grown(before_mb: float, after_mb: float) -> str:
    return f"{before_mb:.1f} to {after_mb:.1f} MB ({100 * (after_mb / before_mb - 1):+.1f} %)"


def recorder_of(data: str) -> int:
    """The recorder that writes below this folder."""
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            words = (entry / "cmdline").read_text().split("\0")
        except OSError:
            continue
        if "nembrit.recorder" in words and any(data in word for word in words):
            return int(entry.name)
    raise SystemExit("no recorder is running")


def main(latency_s: str = "60", n_hours: str = "10") -> None:
    with tempfile.TemporaryDirectory() as made, sync_playwright() as playwright:
        line = _port()
        environment = {**os.environ, "NEMBRIT_DATA": made, "DJANGO_SETTINGS_MODULE": "nembrit.web.settings"}
        subprocess.run([sys.executable, "-c", _MAKE.format(port=line)], env=environment, check=True)
        server = start("serve", Path(made), free_port())
        try:
            address = wait_until_ready(server)
            browser = playwright.chromium.launch(executable_path=os.environ.get("CHROMIUM") or "/usr/bin/chromium", args=CHROMIUM)
            pages = [browser.new_context(base_url=address).new_page() for _ in range(N_BROWSERS)]
            for page in pages:
                page.add_init_script(_WATCH)
            pages[0].goto("/craft/1/live/")
            pages[0].get_by_role("button", name="Start recording").click()
            for page in pages:
                page.goto("/craft/1/live/")
            print("| what | came out | demanded |\n|---|---|---|")
            print(latency(pages, line, float(latency_s)), flush=True)
            for page in pages[1:]:
                page.close()
            if float(n_hours):
                print(hours(pages[0], line, recorder_of(made), float(n_hours)), flush=True)
        finally:
            server.send_signal(signal.SIGTERM)
            server.wait(20)


if __name__ == "__main__":
    main(*sys.argv[1:])
