"""Connections that bring nothing end. Needs no Django: a page process imports it before the settings are read."""

import asyncio

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

_LONGEST_HEAD_S = 20.0


class PatientForAWhile(H11Protocol):
    """Connections that do not bring a whole request head within twenty seconds end."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]  # asyncio names the wider type
        super().connection_made(transport)
        self._wait_for_head()

    def handle_events(self) -> None:
        super().handle_events()
        if self.conn.their_state is not h11.IDLE:
            self._head_timer.cancel()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self.transport.is_closing():
            self._wait_for_head()

    def _wait_for_head(self) -> None:
        self._head_timer = self.loop.call_later(_LONGEST_HEAD_S, self._end)

    def _end(self) -> None:
        if not self.transport.is_closing() and self.conn.their_state is h11.IDLE:
            self.transport.close()
