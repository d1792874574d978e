"""Starting, stopping and surviving: what a user meets before the first page."""

import contextlib
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest

from tests.e2e.conftest import ROOT, free_port, start, wait_until_ready


def beside(pid: int) -> list[int]:
    """The worker, the recorder and the second process of pages: started from threads, so they are found by their parent."""
    found = []
    for entry in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = entry.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == pid and fields[0] != "Z":
            found.append(int(entry.parent.name))
    return found


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
@pytest.mark.long("the harder signal asks the same", only=("-2]",))
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_every_process_ends_with_the_server(tmp_path: Path, how: signal.Signals) -> None:
    process = start("serve", tmp_path, free_port())
    wait_until_ready(process)
    wait_for(lambda: len(beside(process.pid)) == 3)
    children = beside(process.pid)
    process.send_signal(how)
    assert process.wait(15) == (0 if how != signal.SIGKILL else -signal.SIGKILL)
    wait_for(lambda: all(gone(child) for child in children))


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


def test_serving_an_unfinished_demo_empties_nothing(tmp_path: Path) -> None:
    process = start("demo", tmp_path, free_port())
    next(line for line in process.stdout if "Juniper, flight 1" in line)
    process.kill()
    process.wait(15)
    for number in range(2):
        process = start("serve", tmp_path, free_port())
        address = wait_until_ready(process)
        page = urllib.request.urlopen(f"{address}/").read().decode()
        assert "Juniper" in page
        with sqlite3.connect(tmp_path / "workshop.sqlite3", timeout=20) as workshop:
            workshop.execute("UPDATE hangar_craft SET about = about || 'x'")
        process.send_signal(signal.SIGINT)
        process.wait(15)
        assert workshop.execute("SELECT about FROM hangar_craft").fetchone()[0].endswith("x" * (number + 1))
    process = start("demo", tmp_path, free_port())  # it is a workshop now
    wait_until_ready(process)
    process.kill()
    process.wait(15)
    assert workshop.execute("SELECT about FROM hangar_craft").fetchone()[0].endswith("xx")


def test_a_restore_ends_an_unfinished_demo(tmp_path: Path) -> None:
    """The copy is of an earlier version, too: it is brought up to date on the way."""
    old, folder = tmp_path / "old", tmp_path / "demo"
    old.mkdir()
    environment = {"NEMBRIT_DATA": str(old), "DJANGO_SETTINGS_MODULE": "nembrit.web.settings"}
    run("-m", "nembrit.web.manage", "migrate", "logs", "0003", **environment)
    run("-m", "nembrit.web.manage", "migrate", "hangar", **environment)
    with contextlib.closing(sqlite3.connect(old / "workshop.sqlite3")) as made, made:
        made.execute("UPDATE sqlite_sequence SET seq = 77 WHERE name = 'django_content_type'")
    folder.mkdir()
    (folder / "demo-unfinished").touch()
    told = run("-m", "nembrit.web.server", "restore", str(old / "workshop.sqlite3"), "--data", str(folder))
    assert (told.returncode, told.stdout.startswith("Restored.")) == (0, True), told.stderr
    assert not (folder / "demo-unfinished").exists()
    with contextlib.closing(sqlite3.connect(folder / "workshop.sqlite3")) as restored:
        assert restored.execute("SELECT COUNT(*) FROM django_migrations WHERE name = '0004_drafts'").fetchone() == (1,)


def test_a_folder_is_served_once_and_read_by_its_owner_only(tmp_path: Path) -> None:
    (tmp_path / "left").write_text("readable by all")
    (tmp_path / "left").chmod(0o644)
    (tmp_path / "secret-key").write_text("")  # cut off when it was written
    process = start("serve", tmp_path, free_port())
    wait_until_ready(process)
    again = run("-m", "nembrit.web.server", "serve", "--port", str(free_port()), "--data", str(tmp_path))
    assert (again.returncode, again.stderr.count("\n")) == (2, 1)
    assert "is already being served" in again.stderr
    modes = {path.name: oct(path.stat().st_mode & 0o777) for path in tmp_path.rglob("*") if path.is_file()}
    assert set(modes.values()) == {"0o600"}, modes
    assert {oct(path.stat().st_mode & 0o777) for path in (tmp_path, *tmp_path.iterdir()) if path.is_dir()} == {"0o700"}
    process.terminate()
    process.wait(15)


@pytest.mark.parametrize(("made", "sentence"), [("damaged", "damaged, or no workshop"), ("newer", "made by a newer Nembrit")])
def test_a_workshop_that_cannot_be_opened_is_one_sentence(tmp_path: Path, made: str, sentence: str) -> None:
    file = tmp_path / "workshop.sqlite3"
    with contextlib.closing(sqlite3.connect(file)) as database, database:
        database.execute("CREATE TABLE django_migrations (app, name, applied)")
        database.execute("INSERT INTO django_migrations VALUES ('logs', '9999_future', '')")
    if made == "damaged":
        file.write_bytes(b"SQLite format 3\0" + b"\xa5" * 8000)
    before = file.read_bytes()
    found = run("-m", "nembrit.web.server", "serve", "--port", str(free_port()), "--data", str(tmp_path))
    assert (found.returncode, found.stderr.count("\n")) == (2, 1), found.stderr
    assert sentence in found.stderr
    assert file.read_bytes() == before


def test_killed_processes_are_replaced(tmp_path: Path) -> None:
    process = start("serve", tmp_path, free_port())
    address = wait_until_ready(process)
    wait_for(lambda: len(beside(process.pid)) == 3)
    before = beside(process.pid)
    for child in before:
        os.kill(child, signal.SIGKILL)
    wait_for(lambda: len(set(beside(process.pid)) - set(before)) == 3)
    assert all(urllib.request.urlopen(f"{address}/").status == 200 for _ in range(8))
    process.terminate()
    process.wait(15)


def run(*words: str, **variables: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src")} | variables
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
