"""The craft on the line: a stand-in that flies a card in real time, sends telemetry, and holds settings like a real one.

What is written over the link counts at once and is forgotten at the next restart unless it was saved; nothing is written while it
is armed. Its on-board log is given out after landing.
"""

import json
import random
import socket
import socketserver
import sys
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.nmea import checksum
from nembrit.core.types import FloatArray

_DISARM_S, _IDLE_HZ = 2.0, 2.0
# role → name on the line, factor
_SENT: dict[str, tuple[str, float]] = {
    "battery_voltage": ("vbat [V]", 1.0), "battery_current": ("amps [A]", 1.0), "altitude": ("altitude [m]", 1.0),
    "ground_speed": ("ground speed [m/s]", 1.0), "airspeed": ("airspeed [m/s]", 1.0), "course": ("course [deg]", 1.0),
    "latitude": ("lat [deg]", 1.0), "longitude": ("lon [deg]", 1.0), "home_distance": ("home dist [m]", 1.0),
    "attitude.roll": ("att roll [deg]", 1.0), "attitude.pitch": ("att pitch [deg]", 1.0), "throttle": ("throttle [%]", 100.0),
    "gyro.roll": ("gyro roll [deg/s]", 1.0), "gyro.pitch": ("gyro pitch [deg/s]", 1.0),
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Flown:
    """One flight to be played back."""

    t_s: FloatArray
    channels: Mapping[str, FloatArray]
    modes: Sequence[str]
    log: bytes
    name: str


@dataclass(slots=True)
class StandIn:
    """State of the craft; one thread flies, others answer."""

    settings: dict[str, str]
    fly: Callable[[int], Flown]
    send: Callable[[bytes], None]
    rate_hz: float = 20.0
    loss_ratio: float = 0.02
    form: str = "json"
    seed: int = 1
    saved: dict[str, str] = field(default_factory=dict)
    flown: Flown | None = None
    is_armed: bool = False
    n_sent: int = 0
    rest_v: float = 15.0  # on the ground
    pace: float = 1.0  # how many times faster than real time; for tests
    _lock: threading.RLock = field(default_factory=threading.RLock)
    _flights: int = 0
    _rng: random.Random = field(default_factory=lambda: random.Random(7))

    def __post_init__(self) -> None:
        self.saved = dict(self.settings)

    # --- what it answers

    def answer(self, line: bytes) -> tuple[bytes, bytes]:
        """One answer, and what follows it as it is."""
        try:
            document = json.loads(line)
            do, values = document["do"], document.get("values") or {}
        except (ValueError, KeyError, TypeError):
            return self._told("not a request of protocol link/1"), b""
        with self._lock:
            if do == "write":
                return self._write(values), b""
            if do in ("save", "restart") and self.is_armed:
                return self._told("refused while armed: land and disarm first"), b""
            if do == "save":
                self.saved = dict(self.settings)
            elif do == "restart":
                self.settings = dict(self.saved)
            elif do == "fly":
                if self.is_armed:
                    return self._told("already flying"), b""
                self.is_armed = True
                threading.Thread(target=self._fly, daemon=True).start()
            elif do == "log":
                if self.flown is None or self.is_armed:
                    return self._told("no log yet: it is available after landing"), b""
                head = {"nembrit": "link/1", "name": self.flown.name, "bytes": len(self.flown.log)}
                return json.dumps(head).encode() + b"\n", self.flown.log
            elif do != "read":
                return self._told(f"“{str(do)[:20]}” is unknown here"), b""
            return self._told(), b""

    def _write(self, values: Mapping[str, Any]) -> bytes:
        if self.is_armed:
            return self._told("refused while armed: land and disarm first")
        unknown = [name for name in values if name not in self.settings]
        if unknown:
            return self._told(f"unknown setting “{unknown[0][:60]}”: nothing was written")
        self.settings |= {name: str(value) for name, value in values.items()}
        return self._told()

    def _told(self, error: str = "") -> bytes:
        document: dict[str, Any] = {
            "nembrit": "link/1", "settings": self.settings, "saved": self.settings == self.saved, "armed": self.is_armed,
            "moving": self.is_armed,
        }  # fmt: skip
        return json.dumps(document | ({"error": error} if error else {})).encode() + b"\n"

    # --- what it sends

    def idle(self) -> None:
        """One line while it stands on the ground."""
        if not self.is_armed:
            self._line({"vbat [V]": self.rest_v, "amps [A]": 0.4, "lq [%]": 99.0, "mode": "idle"})

    def _fly(self) -> None:
        self._flights += 1
        flown = self.fly(self.seed + self._flights)
        volts = flown.channels.get("battery_voltage")
        if volts is not None:
            self.rest_v = round(float(np.nanmax(volts[-max(1, volts.size // 20) :])), 2)
        began = time.monotonic()
        step = max(1, round(1 / (self.rate_hz * float(flown.t_s[1] - flown.t_s[0]))))
        for k in range(0, flown.t_s.size, step):
            wait = float(flown.t_s[k]) / self.pace - (time.monotonic() - began)
            if wait > 0:
                time.sleep(wait)
            row: dict[str, Any] = {"time [s]": round(float(flown.t_s[k]), 3)}
            for role, (name, factor) in _SENT.items():
                own = flown.channels.get(role)
                if own is not None and np.isfinite(own[k]):
                    row[name] = round(float(own[k]) * factor, 7 if role in ("latitude", "longitude") else 2)
            away = row.get("home dist [m]", 0.0)
            row["lq [%]"] = round(min(100.0, max(5.0, 99 - float(away) / 12 + self._rng.gauss(0, 1.5))), 0)
            row["mode"] = flown.modes[k] if len(flown.modes) > k else "fly"
            self._line(row)
        time.sleep(_DISARM_S / self.pace)
        with self._lock:
            self.flown, self.is_armed = flown, False

    def _line(self, row: Mapping[str, Any]) -> None:
        self.n_sent += 1
        if self._rng.random() < self.loss_ratio:
            return  # lost on the way
        row = {"seq": self.n_sent, **row}
        if self.form == "mixed" and "lat [deg]" in row:
            self.send(_sentence(float(row["lat [deg]"]), float(row["lon [deg]"]), float(row.get("altitude [m]", 0.0))))
            row = {name: value for name, value in row.items() if name not in ("lat [deg]", "lon [deg]")}
        self.send(json.dumps(row).encode() + b"\n")


def _sentence(latitude: float, longitude: float, height_m: float) -> bytes:
    def minutes(value: float, digits: int) -> str:
        whole = int(abs(value))
        return f"{whole:0{digits}d}{60 * (abs(value) - whole):07.4f}"

    body = (
        f"GPGGA,120000,{minutes(latitude, 2)},{'N' if latitude >= 0 else 'S'},{minutes(longitude, 3)},"
        f"{'E' if longitude >= 0 else 'W'},1,09,0.9,{height_m:.1f},M,,M,,"
    )
    return f"${body}*{checksum(body)}\n".encode()


class _Link(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        stand_in: StandIn = self.server.stand_in  # type: ignore[attr-defined]
        while line := self.rfile.readline(1_000_000):
            told, content = stand_in.answer(line)
            self.wfile.write(told + content)


class LinkServer(socketserver.ThreadingTCPServer):
    """Answers link/1 on a port of this computer."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, stand_in: StandIn, port: int) -> None:
        super().__init__(("127.0.0.1", port), _Link)
        self.stand_in = stand_in


def udp_sender(host: str, port: int) -> Callable[[bytes], None]:
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)

    def send(data: bytes) -> None:
        line.sendto(data, (host, port))

    return send


def tcp_sender(host: str, port: int) -> Callable[[bytes], None]:
    """Connects when it can, and throws away what nobody listens to."""
    open_ones: list[socket.socket] = []

    def send(data: bytes) -> None:
        try:
            if not open_ones:
                open_ones.append(socket.create_connection((host, port), timeout=1.0))
            open_ones[0].sendall(data)
        except OSError:
            open_ones.clear()

    return send


def pty_sender(tell: Callable[[str], None]) -> Callable[[bytes], None]:
    """A pseudo-terminal that stands in for a serial port; its name is told."""
    import os
    import pty
    import tty

    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    os.set_blocking(ours, False)
    tell(os.ttyname(theirs))

    def send(data: bytes) -> None:
        try:
            os.write(ours, data)
        except BlockingIOError:  # nobody reads
            return

    return send


def tell(sentence: str) -> None:
    sys.stdout.write(f"{sentence}\n")
    sys.stdout.flush()


def run(stand_in: StandIn, *, link_port: int) -> None:
    """Send while standing, answer the link, until standard input ends or Ctrl-C."""
    server = LinkServer(stand_in, link_port)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    tell(f"link/1 on 127.0.0.1 port {server.server_address[1]}; fly with the request “fly”. Ctrl-C ends it.")
    try:
        while True:
            stand_in.idle()
            time.sleep(1 / _IDLE_HZ)
    except KeyboardInterrupt:
        pass
    finally:
        server.shutdown()


def flown_by(
    craft: Any, controller: Any, card: Any, *, charge_ratio: float, wind_m_s: float, tired_v: float = 0.0
) -> Callable[[int], Flown]:
    """How a craft's stand-in flies a card: with its controller, or as a plane with its surfaces.

    `tired_v`: voltage lost per cell of a worn pack, in the air and in the log.
    """

    def fly(seed: int) -> Flown:
        if craft.kind == "fixed_wing":
            from nembrit.core.simulate.plane.airframe import PlaneWorld
            from nembrit.core.simulate.plane.flight import DECIMALS as PLANE_DECIMALS
            from nembrit.core.simulate.plane.flight import fly_plane

            plane = fly_plane(craft.surfaces, card, PlaneWorld(seed=seed, wind_m_s=wind_m_s))
            plane.channels["battery_voltage"] = np.round(plane.channels["battery_voltage"] - tired_v * craft.cells, 2)
            log = nembrit_csv.write(plane.columns, plane.t_s, decimals=PLANE_DECIMALS)
            return Flown(t_s=plane.t_s, channels=plane.channels, modes=plane.modes, log=log, name=f"standin-{seed}.csv")
        from nembrit.core.simulate.airframe import World
        from nembrit.core.simulate.flight import DECIMALS, write_order
        from nembrit.core.simulate.flight import fly as fly_copter

        flown = fly_copter(craft, controller, card, World(seed=seed, wind_m_s=wind_m_s, pack_charge_ratio=charge_ratio))
        flown.channels["battery_voltage"] = np.round(flown.channels["battery_voltage"] - tired_v * craft.cells, 2)
        order = [role for role in write_order(craft) if role in flown.channels]
        log = nembrit_csv.write([(role, flown.channels[role]) for role in order], flown.t_s, decimals=DECIMALS)
        return Flown(t_s=flown.t_s, channels=flown.channels, modes=(), log=log, name=f"standin-{seed}.csv")

    return fly


def main(options: Any, craft: Any, controller: Any, card: Any, settings: dict[str, str]) -> int:
    """For `nembrit stand-in`."""
    if options.pty:
        send = pty_sender(lambda name: tell(f"serial port {name}"))
    else:
        host, _, port = (options.tcp or options.udp).rpartition(":")
        send = (tcp_sender if options.tcp else udp_sender)(host or "127.0.0.1", int(port))
    fly = flown_by(craft, controller, card, charge_ratio=options.charge / 100, wind_m_s=options.wind, tired_v=options.tired)
    stand_in = StandIn(
        rest_v=round(craft.cells * (3.5 + 0.6 * options.charge / 100 - options.tired), 2),
        settings=settings,
        fly=fly,
        send=send,
        rate_hz=options.rate,
        loss_ratio=options.loss / 100,
        form=options.form,
    )
    threading.Thread(target=_ends_with_parent, daemon=True).start() if options.tied else None
    run(stand_in, link_port=options.link)
    return 0


def _ends_with_parent() -> None:
    import os

    while sys.stdin.buffer.read(1):
        pass
    os._exit(0)
