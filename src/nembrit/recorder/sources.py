"""Where bytes come from: a datagram port, a stream that comes in or is called, a serial line. Each ends with a sentence."""

import contextlib
import select
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Protocol

KINDS = {
    "udp": "UDP: the craft sends to this computer", "tcp_listen": "TCP: the craft connects to this computer",
    "tcp_connect": "TCP: this computer connects to the craft", "serial": "serial port",
}  # fmt: skip
_WAIT_S, _AGAIN_S, _MOST_BYTES = 0.05, 1.0, 65_536


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceAddress:
    """One source as it is set up."""

    kind: str
    host: str = "127.0.0.1"
    port: int = 0
    device: str = ""
    baud: int = 57_600

    @classmethod
    def of(cls, document: dict[str, Any]) -> "SourceAddress":
        return cls(**{name: document[name] for name in ("kind", "host", "port", "device", "baud") if name in document})

    @property
    def in_words(self) -> str:
        if self.kind == "serial":
            return f"{self.device} at {self.baud} baud"
        return f"{self.host} port {self.port}, {self.kind.replace('_', ' ').upper()}"


class Opened(Protocol):
    def read(self) -> bytes: ...  # what came within a moment; empty for nothing
    def close(self) -> None: ...


class SourceLost(Exception):
    """The source ended or cannot be opened: a sentence."""


def stream(address: SourceAddress, is_over: Callable[[], bool], problem: Callable[[str], None]) -> Iterator[bytes]:
    """Bytes as they come, empty ones while nothing does; opened anew once a second for as long as it is wanted."""
    while not is_over():
        try:
            opened = open_source(address)
        except SourceLost as error:
            problem(str(error))
            yield b""
            _rest(is_over)
            continue
        problem("")
        try:
            while not is_over():
                yield opened.read()
        except SourceLost as error:
            problem(str(error))
            yield b"\n"  # the half line that was cut off ends here
        finally:
            opened.close()
        _rest(is_over)


def _rest(is_over: Callable[[], bool]) -> None:
    until = time.monotonic() + _AGAIN_S
    while time.monotonic() < until and not is_over():
        time.sleep(_WAIT_S)


def open_source(address: SourceAddress) -> Opened:
    """Raises SourceLost with what to do about it."""
    try:
        if address.kind == "udp":
            return _Datagrams(address)
        if address.kind == "tcp_listen":
            return _Incoming(address)
        if address.kind == "tcp_connect":
            return _Called(address)
        return _Serial(address)
    except OSError as error:
        told = error.strerror or str(error)
        if address.kind == "serial":
            raise SourceLost(f"{address.device} cannot be opened ({told}): is it plugged in, and free?") from None
        raise SourceLost(f"{address.in_words}: {told}. Is another program using it?") from None


class _Datagrams:
    def __init__(self, address: SourceAddress) -> None:
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        with contextlib.suppress(OSError):
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4_000_000)
        try:
            self._socket.bind((address.host, address.port))
        except OSError:
            self._socket.close()
            raise
        self._socket.setblocking(False)

    def read(self) -> bytes:
        found = []
        if select.select([self._socket], [], [], _WAIT_S)[0]:
            for _ in range(2000):  # as much as waits, not more: whoever floods must not keep us from writing
                try:
                    data = self._socket.recv(_MOST_BYTES)
                except BlockingIOError:
                    break
                found.append(data if data.endswith(b"\n") else data + b"\n")  # a datagram never carries half a line
        return b"".join(found)

    def close(self) -> None:
        self._socket.close()


class _Stream:
    """One connected socket."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket = connected

    def read(self) -> bytes:
        if not select.select([self._socket], [], [], _WAIT_S)[0]:
            return b""
        try:
            data = self._socket.recv(_MOST_BYTES)
        except OSError as error:
            raise SourceLost(f"the connection broke ({error.strerror})") from None
        if not data:
            raise SourceLost("the other side closed the connection")
        return data

    def close(self) -> None:
        self._socket.close()


class _Called(_Stream):
    def __init__(self, address: SourceAddress) -> None:
        super().__init__(socket.create_connection((address.host, address.port), timeout=2.0))


class _Incoming:
    """Waits for whoever connects; one at a time, the newest counts."""

    def __init__(self, address: SourceAddress) -> None:
        self._listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._listener.bind((address.host, address.port))
        except OSError:
            self._listener.close()
            raise
        self._listener.listen(4)
        self._stream: _Stream | None = None

    def read(self) -> bytes:
        if select.select([self._listener], [], [], 0 if self._stream else _WAIT_S)[0]:
            before, self._stream = self._stream, _Stream(self._listener.accept()[0])
            if before is not None:
                before.close()
                return b"\n"
        if self._stream is None:
            return b""
        try:
            return self._stream.read()
        except SourceLost:
            self._stream.close()
            self._stream = None
            return b"\n"  # the half line that was cut off ends here

    def close(self) -> None:
        if self._stream is not None:
            self._stream.close()
        self._listener.close()


class _Serial:
    def __init__(self, address: SourceAddress) -> None:
        import serial  # slow to load, and only here

        try:
            self._port = serial.Serial(address.device, address.baud, timeout=_WAIT_S, exclusive=True)
        except (serial.SerialException, ValueError) as error:
            raise SourceLost(f"{address.device} cannot be opened: is it plugged in, and free? ({str(error)[:80]})") from None
        self._errors = (serial.SerialException, OSError, TypeError)

    def read(self) -> bytes:
        try:
            first = self._port.read(1)
            return bytes(first) + bytes(self._port.read(self._port.in_waiting or 0)) if first else b""
        except self._errors:
            raise SourceLost("the serial port was unplugged") from None

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._port.close()
