"""Starting, stopping and surviving: what a user meets before the first page."""

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.e2e.conftest import ROOT, free_port, start, wait_until_ready


def worker_of(pid: int) -> int:
    """The worker is started from a thread, so it is found by its parent."""
    for entry in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = entry.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == pid and fields[0] != "Z":
            return int(entry.parent.name)
    return 0


def gone(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] == "Z"
    except OSError:
        return True


def wait_for(condition, seconds: float = 15.0) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.1)


# SIGTERM ends the demo that all other tests use
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_every_process_ends_with_the_server(tmp_path: Path, how: signal.Signals) -> None:
    process = start("serve", tmp_path, free_port())
    wait_until_ready(process)
    wait_for(lambda: worker_of(process.pid))
    worker = worker_of(process.pid)
    process.send_signal(how)
    assert process.wait(15) == (0 if how != signal.SIGKILL else -signal.SIGKILL)
    wait_for(lambda: gone(worker))


def test_an_interrupted_demo_is_begun_again(tmp_path: Path) -> None:
    for _ in range(2):  # the second start finds what the first one left
        process = start("demo", tmp_path, free_port())
        for line in process.stdout:
            if "Juniper, flight 1" in line:
                break
        else:
            raise AssertionError("the demo was not built")
        process.kill()
        process.wait(15)
    assert (tmp_path / "demo-unfinished").exists()


def test_a_killed_worker_is_replaced(tmp_path: Path) -> None:
    process = start("serve", tmp_path, free_port())
    wait_until_ready(process)
    wait_for(lambda: worker_of(process.pid))
    worker = worker_of(process.pid)
    os.kill(worker, signal.SIGKILL)
    wait_for(lambda: worker_of(process.pid) not in (0, worker))
    process.terminate()
    process.wait(15)


def run(*words: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src")}
    return subprocess.run([sys.executable, *words], env=environment, capture_output=True, text=True, timeout=60, check=False)


def test_a_busy_port_is_one_sentence(tmp_path: Path) -> None:
    with socket.socket() as busy:
        busy.bind(("127.0.0.1", 0))
        busy.listen()
        found = run("-m", "nembrit.web.server", "serve", "--port", str(busy.getsockname()[1]), "--data", str(tmp_path))
    assert found.returncode == 2
    assert "is busy" in found.stderr
    assert found.stderr.count("\n") == 1


@pytest.mark.parametrize(
    ("words", "sentence"), [(("--data", "/proc/nembrit"), "cannot be written to"), (("--port", "99999"), "from 1 to 65535")]
)
def test_a_folder_or_port_that_cannot_be_used_is_one_sentence(words: tuple[str, ...], sentence: str) -> None:
    found = run("-m", "nembrit.web.server", "serve", *words)
    assert (found.returncode, sentence in found.stderr, found.stderr.count("\n")) == (2, True, 1)


def test_too_old_a_python_is_one_sentence() -> None:
    pretend = "sys.version_info = (3, 9, 1); sys.argv = ['run.py', 'demo']"
    code = f"import sys; {pretend}; sys.path.insert(0, {str(ROOT)!r}); import run; run.main()"
    found = run("-c", code)
    assert (found.returncode, found.stderr) == (2, "Nembrit needs Python 3.11 or newer; this is Python 3.9.\n")


def test_vendored_files_are_the_ones_listed() -> None:
    import base64
    import hashlib
    import re

    rows = re.findall(r"`([^`]+)` \| `sha384-([^`]+)`", (ROOT / "docs" / "vendored.md").read_text())
    assert len(rows) >= 8
    for path, expected in rows:
        assert base64.b64encode(hashlib.sha384((ROOT / path).read_bytes()).digest()).decode() == expected, path
