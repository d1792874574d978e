"""The way in, by plain connections: too large, without the page's token, too slow, and a file that is written once."""

import contextlib
import http.client
import re
import socket
import time
import urllib.parse
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.e2e.conftest import free_port, start, wait_until_ready
from tests.flying import log_file


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[int, Path]]:
    folder = tmp_path_factory.mktemp("door")
    port = free_port()
    process = start("serve", folder, port)
    wait_until_ready(process)
    yield port, folder
    process.kill()
    process.wait(15)


def token_of(port: int) -> tuple[str, str]:
    """The cookie and the token that a page gives."""
    with contextlib.closing(http.client.HTTPConnection("127.0.0.1", port)) as page:
        page.request("GET", "/inbox/")
        answer = page.getresponse()
        cookie = answer.getheader("Set-Cookie").split(";")[0]
        return cookie, re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', answer.read().decode()).group(1)


def body_of(name: str, content: bytes) -> bytes:
    head = f'--edge\r\nContent-Disposition: form-data; name="files"; filename="{name}"\r\n\r\n'
    return head.encode() + content + b"\r\n--edge--\r\n"


def send(port: int, size: int, *, query: str = "", cookie: str = "", parts: tuple[bytes, ...] = ()) -> tuple[int, str]:
    """Announce a form of this size, send these parts of it, and see what is said."""
    with contextlib.closing(socket.create_connection(("127.0.0.1", port), timeout=30)) as wire:
        lines = [
            f"POST /inbox/{query} HTTP/1.1", f"Host: 127.0.0.1:{port}", "Content-Type: multipart/form-data; boundary=edge",
            f"Content-Length: {size}", f"Cookie: {cookie}", f"Origin: http://127.0.0.1:{port}", "", "",
        ]  # fmt: skip
        wire.sendall("\r\n".join(lines).encode())
        for part in parts:
            wire.sendall(part)
        answer = b""
        while part := wire.recv(65_536):
            answer += part
            if b"</html>" in answer:
                break
    return int(answer.split()[1]), answer.decode(errors="replace")


def test_too_large_a_form_is_refused_by_what_it_announces(served: tuple[int, Path]) -> None:
    port, _ = served
    cookie, token = token_of(port)
    began = time.monotonic()
    status, page = send(port, 5_000_000_000, query=f"?token={token}", cookie=cookie)
    assert (status, "5000 MB were announced" in page) == (413, True)
    assert time.monotonic() - began < 10


@pytest.mark.parametrize("query", ["", "?token=wrong"])
def test_nothing_is_kept_of_a_form_without_the_right_token(served: tuple[int, Path], query: str) -> None:
    port, folder = served
    cookie, _ = token_of(port)
    content = body_of("big.csv", b"1,2\n" * 8_000_000)
    status, page = send(port, len(content), query=query, cookie=cookie, parts=(content[:200_000],))
    assert (status, "Nothing was" in page) == (403, True)
    assert not list((folder / "arriving").iterdir())


def test_a_file_is_written_once_beside_the_workshop(served: tuple[int, Path], monkeypatch: pytest.MonkeyPatch) -> None:
    """While it is on its way it lies in the workshop's own folder only."""
    port, folder = served
    cookie, token = token_of(port)
    log = log_file(5, 1.0)
    content = body_of("flight.csv", log + b"#" + b"x" * (20 * 1024 * 1024))
    half = len(content) * 9 // 10

    def parts() -> Iterator[bytes]:
        yield content[:half]
        deadline = time.monotonic() + 20
        while not (sizes := [path.stat().st_size for path in (folder / "arriving").iterdir()]):
            assert time.monotonic() < deadline
            time.sleep(0.05)
        time.sleep(0.5)
        sizes = [path.stat().st_size for path in (folder / "arriving").iterdir()]
        assert len(sizes) == 1, "one copy"
        assert 0.5 * half < sizes[0] <= half, "as it comes"
        yield content[half:]

    status, page = send(port, len(content), query=f"?token={token}", cookie=cookie, parts=parts())
    assert status == 200
    assert urllib.parse.unquote("flight.csv") in page


def test_an_upload_that_is_cut_off_leaves_nothing(served: tuple[int, Path]) -> None:
    port, folder = served
    cookie, token = token_of(port)
    content = body_of("big.csv", b"1,2\n" * 16_000_000)
    before = set((folder / "arriving").iterdir())
    with contextlib.closing(socket.create_connection(("127.0.0.1", port), timeout=30)) as wire:
        lines = [
            f"POST /inbox/?token={token} HTTP/1.1", f"Host: 127.0.0.1:{port}", "Content-Type: multipart/form-data; boundary=edge",
            f"Content-Length: {len(content)}", f"Cookie: {cookie}", f"Origin: http://127.0.0.1:{port}", "", "",
        ]  # fmt: skip
        wire.sendall("\r\n".join(lines).encode() + content[: len(content) // 2])
        deadline = time.monotonic() + 20
        while set((folder / "arriving").iterdir()) <= before:
            assert time.monotonic() < deadline
            time.sleep(0.05)
    deadline = time.monotonic() + 20
    while not set((folder / "arriving").iterdir()) <= before:
        assert time.monotonic() < deadline, "what came of it is removed as soon as the sender is gone"
        time.sleep(0.1)


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_connections_that_say_nothing_or_half_of_it_end(served: tuple[int, Path]) -> None:
    port, _ = served
    with contextlib.ExitStack() as open_wires:
        began = time.monotonic()
        for begun in (b"", b"GET / HTTP/1.1\r\nHost: 127.0"):
            wire = open_wires.enter_context(contextlib.closing(socket.create_connection(("127.0.0.1", port), timeout=40)))
            wire.sendall(begun)
            open_wires.callback(wire.recv, 1000)
    assert 5 < time.monotonic() - began < 35
