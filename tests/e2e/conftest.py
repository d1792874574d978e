"""The real program with its demo, started once as a user would start it, and Debian's chromium to drive it."""

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Error, Locator, Page

from tests.flying import log_file

ROOT = Path(__file__).parents[2]
CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def start(command: str, folder: Path, port: int) -> subprocess.Popen[str]:
    environment = {key: value for key, value in os.environ.items() if not key.startswith(("NEMBRIT", "DJANGO"))}
    environment["PYTHONPATH"] = str(ROOT / "src")
    words = [sys.executable, "-m", "nembrit.web.server", command, "--port", str(port), "--data", str(folder)]
    return subprocess.Popen(words, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


def wait_until_ready(process: subprocess.Popen[str]) -> str:
    lines = []
    for line in process.stdout:
        lines.append(line)
        if line.startswith("Nembrit is ready"):
            return line.split(": ")[1].strip().rstrip("/")
    raise AssertionError("".join(lines))


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """Address of the demo."""
    process = start("demo", tmp_path_factory.mktemp("demo"), free_port())
    address = wait_until_ready(process)
    yield address
    process.send_signal(signal.SIGTERM)
    assert process.wait(15) == 0


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, object]:
    return {"executable_path": os.environ.get("CHROMIUM") or "/usr/bin/chromium", "args": CHROMIUM}


@pytest.fixture(scope="session")
def browser_context_args(demo: str) -> dict[str, object]:
    return {"base_url": demo, "viewport": {"width": 1280, "height": 800}, "accept_downloads": True}


@pytest.fixture(autouse=True)
def clean_page(page: Page, demo: str) -> Iterator[list[str]]:
    """No page may log an error, and no request may leave this computer."""
    faults: list[str] = []
    page.set_default_timeout(15_000)
    page.on("pageerror", lambda error: faults.append(str(error)))
    page.on("console", lambda told: faults.append(told.text) if "Content Security Policy" in told.text else None)
    page.on("request", lambda request: None if request.url.startswith((demo, "blob:", "data:")) else faults.append(request.url))
    yield faults
    assert faults == []


@pytest.fixture(scope="session")
def logs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Files as a tuner has them: two flights, a picture, a log with a slip in row 4."""
    folder = tmp_path_factory.mktemp("logs")
    files = {
        "loose": log_file(5, 1.0),
        "sound": log_file(6, 0.0),
        "picture": b"\x89PNG\r\n\x1a\n\0\0",
        "slip": b"time [s],gyro.roll [deg/s]\n0,1\n1,2\n2,oops\n" + b"".join(b"%d,1\n" % k for k in range(3, 20_000)),
    }
    for name, content in files.items():
        (folder / f"{name}.csv").write_bytes(content)
    return {name: folder / f"{name}.csv" for name in files}


def until(page: Page, condition: str, *, arg: object = None, timeout: int = 15_000) -> None:
    """Wait until a script's condition holds; looked at from outside, since pages forbid what a watcher inside would need."""
    end = time.monotonic() + timeout / 1000
    while not _holds(page, condition, arg):
        assert time.monotonic() < end, f"waited in vain for {condition}"
        page.wait_for_timeout(50)


def _holds(page: Page, condition: str, arg: object) -> bool:
    try:
        return bool(page.evaluate(condition, arg))
    except Error as error:
        if "Execution context was destroyed" in error.message:
            return False  # the page was on its way to another one
        raise


@contextmanager
def swapped(page: Page) -> Iterator[None]:
    """Wait until what happens inside has put a new content into the page."""
    page.evaluate("document.getElementById('content').dataset.old = '1'")
    yield
    busy = ".htmx-request, .htmx-swapping, .htmx-settling, .htmx-added"
    until(page, f"document.getElementById('content')?.dataset.old == null && !document.querySelector('{busy}')")
    page.wait_for_timeout(60)  # it settles: scripts begin


def drawn(page: Page) -> None:
    """Wait until the page's pictures stand."""
    until(page, "document.documentElement?.dataset.charts === 'drawn'", timeout=60_000)


def offer(picture: Locator, name: str) -> None:
    """Choose from a picture's menu: its table, or a file of it."""
    menu = picture.locator(".tools .menu").first
    menu.locator("summary").click()
    menu.get_by_role("button", name=name).click()
