"""A phone in the local network: in with the passphrase, still in after the workshop was stopped and started again."""

import contextlib
import http.client
import re
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, expect

from nembrit.web.server import _own_addresses
from tests.e2e.conftest import ROOT, free_port

WAY_IN = re.compile(r"In the local network: (\S+?)/ ")


def start_lan(folder: Path, port: int) -> tuple[subprocess.Popen[str], str, str]:
    words = [sys.executable, "-m", "nembrit.web.server", "serve", "--lan", "--port", str(port), "--data", str(folder)]
    environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin"}
    process = subprocess.Popen(words, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    address = phrase = ""
    for line in process.stdout:
        address = found[1] if (found := WAY_IN.search(line)) else address
        phrase = line.rsplit(": ", 1)[1].strip() if line.startswith("The passphrase for phones") else phrase
        if line.startswith("Nembrit is ready"):
            return process, address, phrase
    raise AssertionError("the server did not start")


@pytest.mark.parametrize(
    ("path", "headers", "status"),
    [
        ("/inbox/", "Transfer-Encoding: chunked", 411),
        ("/inbox/", "Content-Length: 900000000", 413),
        ("/inbox/", "Content-Length: 5000000", 403),
        ("/inbox/?token=x", "Content-Length: 500000000\r\nContent-Type: multipart/form-data; boundary=edge", 403),
        ("/enter/", "Content-Length: 850000", 413),
        ("/enter/", "Transfer-Encoding: chunked", 411),
    ],
)
def test_of_who_is_not_invited_nothing_is_read(lan_port: tuple[str, int], path: str, headers: str, status: int) -> None:
    host, port = lan_port
    with socket.create_connection((host, port), timeout=10) as wire:
        wire.sendall(f"POST {path} HTTP/1.1\r\nHost: {host}:{port}\r\n{headers}\r\n\r\n".encode())
        assert int(wire.recv(65_536).split()[1]) == status


def test_slow_guests_do_not_hold_the_owner_up(lan_port: tuple[str, int]) -> None:
    """A hundred guests announce forms and send nothing; the owner's own forms are answered meanwhile."""
    host, port = lan_port
    with contextlib.ExitStack() as wires:
        for _ in range(100):
            wire = wires.enter_context(socket.create_connection((host, port), timeout=10))
            head = f"POST /enter/ HTTP/1.1\r\nHost: {host}:{port}\r\nContent-Type: application/x-www-form-urlencoded"
            wire.sendall(f"{head}\r\nContent-Length: 900\r\n\r\npass".encode())
        own = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
        own.request("POST", "/jobs/999/cancel/", headers={"Content-Length": "0"})
        assert own.getresponse().status == 403  # answered, and without its token refused


@pytest.fixture(scope="module")
def lan_port(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, int]]:
    port = free_port()
    process, address, _ = start_lan(tmp_path_factory.mktemp("lan"), port)
    yield address.removeprefix("http://").split(":")[0], port
    process.kill()
    process.wait(15)


def test_a_phone_comes_in_and_stays_in_over_a_restart(browser: Browser, tmp_path: Path) -> None:
    assert _own_addresses(), "this test needs a network interface with an address of its own"
    port = free_port()
    process, address, phrase = start_lan(tmp_path, port)
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    try:
        page = context.new_page()
        page.goto(f"{address}/craft/new/")
        expect(page.get_by_role("heading", level=1)).to_have_text("Nembrit, a workshop in this network")
        page.get_by_label("Passphrase").fill("a-wrong-guess")
        page.get_by_role("button", name="Connect").tap()
        expect(page.get_by_role("alert")).to_contain_text("Wrong passphrase")
        page.get_by_label("Passphrase").fill(phrase)
        page.get_by_role("button", name="Connect").tap()
        expect(page).to_have_url(f"{address}/craft/new/")
        assert page.goto(f"{address}/backup/").status == 403
        process.send_signal(signal.SIGTERM)
        assert process.wait(15) == 0
        process, _, shown_again = start_lan(tmp_path, port)
        assert shown_again == "", "the passphrase is shown once"
        page.goto(f"{address}/")
        expect(page.get_by_text("The hangar is empty")).to_be_visible()
        own = browser.new_context().new_page()
        own.goto(f"http://127.0.0.1:{port}/phones/")
        expect(own.get_by_text("last seen")).to_be_visible()
        assert own.evaluate("document.images[0].complete && document.images[0].naturalWidth") > 100
        own.get_by_role("button", name="Disconnect").click()
        expect(own.get_by_text("Nobody yet.")).to_be_visible()
        page.goto(f"{address}/")
        expect(page.get_by_label("Passphrase")).to_be_visible()
    finally:
        context.close()
        process.kill()
