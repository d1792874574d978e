"""The recorder as a process: what it is sent it keeps, also when it is killed, the port floods, or the sender goes."""

import contextlib
import json
import math
import os
import pty
import signal
import socket
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from nembrit.recorder import folder as files
from nembrit.recorder.folder import Appended
from nembrit.standin import LinkServer, StandIn
from tests.core.telemetry.test_telemetry import GGA


def free_port(kind: int = socket.SOCK_DGRAM) -> int:
    with socket.socket(socket.AF_INET, kind) as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Recorder:
    """One recorder over a folder, and a recording in it."""

    def __init__(self, where: Path) -> None:
        self.where = where
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "nembrit.recorder", str(self.where)], stdin=subprocess.PIPE, start_new_session=True
        )

    def want(self, name: str = "1", **source: Any) -> Path:
        path = self.where / name
        path.mkdir(parents=True)
        rules = [{"key": "silent", "limit": 0.5, "delay_s": 0.0, "hysteresis": 0.2}]
        files.replace(path / files.WANTED, {"source": source, "cells": 4, "capacity_mah": 2000.0, "rules": rules})
        return path

    def kill(self) -> None:
        assert self.process is not None
        os.kill(self.process.pid, signal.SIGKILL)
        self.process.wait()


@pytest.fixture
def recorder(tmp_path: Path) -> Iterator[Recorder]:
    one = Recorder(tmp_path)
    yield one
    if one.process is not None and one.process.poll() is None:
        one.kill()


def until(holds: Callable[[], Any], what: str = "it never came") -> Any:
    for _ in range(400):
        found = holds()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(what)


def rows(path: Path) -> list[dict[str, Any]]:
    if not (path / files.LINES).exists():
        return []
    found = []
    for line in (path / files.LINES).read_bytes().splitlines():
        with contextlib.suppress(ValueError, IndexError):  # a half line of a kill, until the next recorder takes it out
            found.append(json.loads(line.split(b"\t", 1)[1]))
    return found


def test_what_is_sent_is_kept_and_watched(recorder: Recorder) -> None:
    port = free_port()
    path = recorder.want(kind="udp", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: files.read(path / files.STATE))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        for k in range(40):
            line.sendto(json.dumps({"seq": k, "vbat [V]": 15.0, "amps [A]": 9.0}).encode(), ("127.0.0.1", port))
            if k == 20:
                line.sendto(b"\x00rubbish", ("127.0.0.1", port))
                line.sendto(GGA.encode(), ("127.0.0.1", port))
            time.sleep(0.01)
    until(lambda: len(rows(path)) == 41)
    state = until(lambda: (own := files.read(path / files.STATE)).get("rows") == 41 and own)
    assert (state["garbage"], state["dropped"]) == (1, 0)
    assert {one["key"] for one in state["columns"]} >= {"counter", "battery_voltage", "battery_current"}
    until(lambda: b"No data for" in (path / files.EVENTS).read_bytes(), "silence is an alarm")
    (path / files.STOP).touch()
    until(lambda: (path / files.ENDED).exists())


@pytest.mark.parametrize("round_", range(3))
def test_after_a_kill_at_most_a_second_is_missing_and_it_goes_on(recorder: Recorder, round_: int) -> None:
    port = free_port()
    path = recorder.want(kind="udp", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: files.read(path / files.STATE))
    sent: list[float] = []
    stop = threading.Event()

    def send() -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            while not stop.is_set():
                sent.append(time.time())
                line.sendto(json.dumps({"n": len(sent), "vbat [V]": 15.0}).encode(), ("127.0.0.1", port))
                time.sleep(0.01)

    sender = threading.Thread(target=send)
    sender.start()
    time.sleep(1.2 + 0.23 * round_)
    killed = time.time()
    recorder.kill()
    (path / files.LINES).open("ab").write(b'179617.1\t{"half')  # a line that was cut off
    recorder.start()
    until(lambda: max((row["n"] for row in rows(path) if "n" in row), default=0) > len(sent) - 80 and time.time() > killed + 1)
    stop.set()
    sender.join()
    kept = {int(row["n"]) for row in rows(path)}
    before = [n for n, at in enumerate(sent, start=1) if at < killed - 1.0]
    assert before
    assert kept >= set(before)
    assert b"started again" in (path / files.EVENTS).read_bytes()


def test_a_stream_that_is_called_comes_back(recorder: Recorder) -> None:
    port = free_port(socket.SOCK_STREAM)
    path = recorder.want(kind="tcp_connect", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: "Is another" in str(files.read(path / files.STATE).get("problem")), "nobody listens yet")
    for n in range(2):
        with socket.create_server(("127.0.0.1", port)) as server:
            server.settimeout(8)
            connection, _ = server.accept()
            connection.sendall(b'{"n": %d, "v": 1}\n{"n": ' % n)
            time.sleep(0.2)
            connection.close()
        until(lambda n=n: len(rows(path)) == n + 1)
    assert [row["n"] for row in rows(path)] == [0, 1]


def test_corrected_meanings_count_at_once_and_noise_is_heard_from_100_hz_on(recorder: Recorder) -> None:
    port = free_port()
    path = recorder.want(kind="udp", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: files.read(path / files.STATE))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        for k in range(600):
            row = {"time [s]": k / 200, "gyro roll [deg/s]": 60 * math.sin(2 * math.pi * 15 * k / 200), "odd": 15000.0}
            line.sendto(json.dumps(row).encode(), ("127.0.0.1", port))
            time.sleep(0.001)
        until(lambda: files.read(path / files.STATE).get("noise"))
        (noise,) = files.read(path / files.STATE)["noise"]
        assert (noise["axis"], noise["line_hz"]) == ("roll", pytest.approx(15, abs=0.5))
        own = [{"name": "odd", "key": "battery_voltage", "unit": "V", "factor": 0.001, "offset": 0.0, "confidence": 1.0}]
        files.replace(path / files.COLUMNS, {"columns": own})
        time.sleep(0.5)
        line.sendto(json.dumps(row).encode().replace(b"2.995", b"3.995"), ("127.0.0.1", port))
        until(lambda: files.read(path / files.STATE)["values"].get("cell_v") == pytest.approx(15 / 4))


def test_a_stream_that_comes_in_and_a_second_recorder_on_the_port(recorder: Recorder) -> None:
    port = free_port(socket.SOCK_STREAM)
    first = recorder.want("1", kind="tcp_listen", host="127.0.0.1", port=port)
    second = recorder.want("2", kind="tcp_listen", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: any("Is another" in str(files.read(path / files.STATE).get("problem")) for path in (first, second)))
    with socket.create_connection(("127.0.0.1", port)) as line:
        line.sendall(b'{"v": 1}\n' * 3)
        until(lambda: len(rows(first)) + len(rows(second)) == 3)


def test_a_serial_port_that_is_unplugged_and_plugged_in(recorder: Recorder) -> None:
    """A pseudo-terminal stands in for the port."""
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    path = recorder.want(kind="serial", device=os.ttyname(theirs), baud=57600)
    recorder.start()
    until(lambda: files.read(path / files.STATE))
    time.sleep(0.3)
    os.write(ours, b"volt,amp\n15.0,3\n14.9,4\n")
    until(lambda: len(rows(path)) == 2)
    os.close(theirs)
    os.close(ours)
    until(
        lambda: (
            "unplugged" in str(files.read(path / files.STATE).get("problem"))
            or "plugged in" in str(files.read(path / files.STATE).get("problem"))
        )
    )


def test_a_flood_keeps_what_came_before(recorder: Recorder) -> None:
    port = free_port()
    path = recorder.want(kind="udp", host="127.0.0.1", port=port)
    recorder.start()
    until(lambda: files.read(path / files.STATE))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.sendto(b'{"first": 1, "v": 2}', ("127.0.0.1", port))
        for k in range(20_000):
            line.sendto(b'{"n": %d, "v": 2}' % k, ("127.0.0.1", port))
        line.sendto(b'{"last": 1, "v": 2}', ("127.0.0.1", port))
    until(lambda: rows(path) and "first" in rows(path)[0] and len(rows(path)) > 1000)


def test_a_full_disk_waits_and_goes_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    grown = Appended(tmp_path / "lines.log")
    grown.add(b"one")
    grown.flush(now=True)

    class Full:
        def write(self, data: bytes) -> int:
            raise OSError(28, "No space left on device")

        def fileno(self) -> int:
            return 0

    real = grown._file
    monkeypatch.setattr(grown, "_file", Full())
    for k in range(6):
        grown.add(b"%d" % k)
    with pytest.raises(OSError, match="No space"):
        grown.flush(now=True)
    assert grown.forget_waiting(4) == 2
    monkeypatch.setattr(grown, "_file", real)
    grown.flush(now=True)
    assert (tmp_path / "lines.log").read_bytes() == b"one\n2\n3\n4\n5\n"


def test_only_one_recorder_works_and_it_ends_with_its_server(recorder: Recorder) -> None:
    recorder.start()
    until(lambda: (recorder.where / "recorder-lock").exists())
    time.sleep(0.3)
    second = subprocess.run([sys.executable, "-m", "nembrit.recorder", str(recorder.where)], stdin=subprocess.DEVNULL, timeout=20)
    assert second.returncode == 0
    assert recorder.process is not None
    assert recorder.process.stdin is not None
    recorder.process.stdin.close()
    assert recorder.process.wait(10) == 0


def test_the_stand_in_holds_settings_like_a_craft() -> None:
    stand_in = StandIn(settings={"p": "18"}, fly=lambda seed: None, send=lambda data: None)  # type: ignore[arg-type,return-value]
    server = LinkServer(stand_in, 0)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with socket.create_connection(server.server_address) as line:
        talk = line.makefile("rwb")

        def ask(**document: Any) -> dict[str, Any]:
            talk.write(json.dumps(document).encode() + b"\n")
            talk.flush()
            return dict(json.loads(talk.readline()))

        assert ask(do="read")["saved"] is True
        assert ask(do="write", values={"p": "20"})["saved"] is False
        assert ask(do="restart")["settings"] == {"p": "18"}  # it was not saved
        ask(do="write", values={"p": "21"})
        ask(do="save")
        assert ask(do="restart")["settings"] == {"p": "21"}
        assert "unknown setting" in ask(do="write", values={"q": "1"})["error"]
        assert "no log yet" in ask(do="log")["error"]
        assert "not a request" in ask()["error"]
        stand_in.is_armed = True
        assert "armed" in ask(do="write", values={"p": "1"})["error"]
        assert "armed" in ask(do="save")["error"]
    server.shutdown()
