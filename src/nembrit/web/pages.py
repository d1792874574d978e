"""Serving pages from a socket that listens already; as a program, from one that the server handed down."""

import os
import socket
import sys
import threading
from types import FrameType

import uvicorn

from nembrit.web.common.stopping import STOP

_MOST_WAITING = 128


def serve_pages(listener: socket.socket, *, until_parent_ends: bool = False) -> None:
    """Serve until a signal comes, or until standard input ends: then the requests under way are answered first."""
    from nembrit.web.common.patience import PatientForAWhile

    config = uvicorn.Config(
        "nembrit.web.asgi:application",
        loop="asyncio",
        http=PatientForAWhile,
        ws="none",
        lifespan="off",
        proxy_headers=False,  # who asks is told by the connection, not by what the sender writes
        log_level="warning",
        backlog=1,
        timeout_graceful_shutdown=3 if until_parent_ends else None,
    )
    server = _FairServer(config)
    if until_parent_ends:
        threading.Thread(target=_stop_with_parent, args=(server,), daemon=True).start()
    server.run(sockets=[listener])


class _FairServer(uvicorn.Server):
    """Takes one waiting connection at a time, so that none of the processes takes all of them."""

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        STOP.set()  # streams end by themselves
        super().handle_exit(sig, frame)

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        for listener in sockets or ():
            listener.listen(_MOST_WAITING)  # the configured number is also how many are taken at a time


def _stop_with_parent(server: uvicorn.Server) -> None:
    os.read(0, 1)
    STOP.set()
    server.should_exit = True


def main(descriptor: str) -> None:
    os.umask(0o077)
    serve_pages(socket.socket(fileno=int(descriptor)), until_parent_ends=True)


if __name__ == "__main__":
    main(sys.argv[1])
