"""The way in: who sends too much, without the page's token or too slowly is turned away before anything is kept.

Django reads a whole request into a temporary file before it looks at it. Here a form with files is looked at
first, by its announced size and by its token (in a header or the address), and then read straight from the
connection, so that a file is written once, beside the workshop.
"""

import asyncio
import io
import shutil
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from django.conf import settings
from django.core.exceptions import RequestAborted
from django.core.handlers.asgi import ASGIHandler
from django.http import HttpRequest, QueryDict
from django.http.response import HttpResponseBase
from django.template.loader import render_to_string

from nembrit.web.common.lan import is_invited, is_loopback
from nembrit.web.common.threads import answered, invited

Scope = dict[str, Any]
Receive = Callable[[], Awaitable[Mapping[str, Any]]]
Send = Callable[[Mapping[str, Any]], Awaitable[None]]

ENTRANCE = "/enter/"
MOST_ENTRANCE_BYTES = 2000  # a passphrase and where to go on
MOST_FORM_BYTES = 16 * 1024 * 1024  # a form without files
MOST_UPLOAD_BYTES = 850 * 1024 * 1024  # logs; what one of them may hold is checked when it is read
RESTORE_PATH = "/backup/restore/"  # a whole workshop: as much as the disk holds
TOKEN_KEY = "token"  # in the address of a form with files
_LONGEST_SILENCE_S = 60.0
_FREE_S, _LEAST_BYTES_PER_S = 30.0, 10_000  # a body may take half a minute, and more where it comes at least this fast


class Door(ASGIHandler):
    """Django's handler behind the checks above; everything that Django does for a request is done in one thread."""

    def load_middleware(self, is_async: bool = False) -> None:
        super().load_middleware(is_async=False)

    async def get_response_async(self, request: HttpRequest) -> HttpResponseBase:
        return await answered(self.get_response, request)

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> HttpResponseBase | None:
        request = _Request(scope, receive)
        refusal = request.refusal() or await self._uninvited(request)
        if refusal:
            await _answer(send, *refusal)
            return None
        return await super().handle(scope, request, send)

    async def _uninvited(self, request: "_Request") -> tuple[int, str, str] | None:
        """A guest of the local network sends nothing that is read before the invitation was seen."""
        if not request.is_guest or not request.has_body or request.path == ENTRANCE:
            return None
        if settings.LAN_HOSTS and await invited(is_invited, request.cookies):
            return None
        return 403, "Enter the passphrase first", "Nothing was read or kept."

    async def read_body(self, receive: Any) -> Any:
        if receive.has_files:
            return _Body(receive, asyncio.get_running_loop())
        try:
            return await super().read_body(receive)
        except TimeoutError:
            raise RequestAborted from None

    async def listen_for_disconnect(self, receive: Any) -> None:
        await receive.is_read.wait()
        message = await receive.next()
        if message["type"] == "http.disconnect":
            raise RequestAborted


class _Request:
    """The receiving side of one request."""

    def __init__(self, scope: Scope, receive: Receive) -> None:
        self._headers = {name.lower(): value for name, value in scope["headers"]}
        self._scope = scope
        self.next = receive
        self.is_read = asyncio.Event()
        kind = self._headers.get(b"content-type", b"").split(b";")[0].strip().lower()
        self.has_files = scope["method"] == "POST" and kind == b"multipart/form-data"
        self.path = scope["path"]
        self.is_guest = not is_loopback((scope.get("client") or ("",))[0])
        self.has_body = self._headers.get(b"content-length", b"0").strip() != b"0" or b"transfer-encoding" in self._headers
        self._began_s: float | None = None
        self._n_bytes = 0

    @property
    def cookies(self) -> str:
        return str(self._headers.get(b"cookie", b"").decode("latin-1"))

    async def __call__(self) -> Mapping[str, Any]:
        """The next piece of the body. Raises TimeoutError where nothing comes for a minute, or too slowly."""
        now_s = asyncio.get_running_loop().time()
        self._began_s = now_s if self._began_s is None else self._began_s
        left_s = _FREE_S + self._n_bytes / _LEAST_BYTES_PER_S - (now_s - self._began_s)
        message = await asyncio.wait_for(self.next(), max(0.0, min(_LONGEST_SILENCE_S, left_s)))
        self._n_bytes += len(message.get("body", b""))
        if message["type"] == "http.disconnect" or not message.get("more_body", False):
            self.is_read.set()
        return message

    def refusal(self) -> tuple[int, str, str] | None:
        """Status, title and sentence for a request that is not read at all."""
        text = self._headers.get(b"content-length", b"0").decode("latin-1").strip()
        size = int(text) if text.isascii() and text.isdigit() and len(text) < 19 else None
        if size is None:
            return 400, "That request could not be understood", "Its length is not a number. Nothing was changed."
        if b"transfer-encoding" in self._headers:
            return 411, "That was rejected", "Forms and files must be sent with their size announced. Nothing was kept."
        most = self._most_bytes()
        if size > most:
            told = f"{size / 1e6:.0f} MB were announced; at most {most / 1e6:.0f} MB are accepted. Nothing was saved."
            return 413, "That is too large", told
        if self.has_files and not self._has_token():
            told = (
                "The page was too old or came from another site. Nothing was saved: load the page again and repeat the last step."
            )
            return 403, "That step was rejected", told
        return None

    def _most_bytes(self) -> int:
        if self.path == ENTRANCE:
            return MOST_ENTRANCE_BYTES
        if not self.has_files:
            return MOST_FORM_BYTES
        if self.path == RESTORE_PATH:
            return shutil.disk_usage(settings.DATA_FOLDER).free
        return MOST_UPLOAD_BYTES

    def _has_token(self) -> bool:
        """Whether a token comes along; Django checks that it is the right one, before it reads the files."""
        given = QueryDict(self._scope.get("query_string", b"")).get(TOKEN_KEY)
        return bool(given or self._headers.get(b"x-csrftoken"))


class _Body(io.RawIOBase):
    """The body of a request as a file to read in another thread, piece by piece as it comes."""

    def __init__(self, receive: _Request, loop: asyncio.AbstractEventLoop) -> None:
        super().__init__()
        self._receive = receive
        self._loop = loop
        self._rest = b""

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        """At most that many bytes, all that is left for -1; b"" at the end. Raises OSError where the sender is gone."""
        if size < 0:
            return b"".join(iter(lambda: self.read(65_536), b""))
        while not self._rest and not self._receive.is_read.is_set():
            try:
                message = asyncio.run_coroutine_threadsafe(self._receive(), self._loop).result()
            except TimeoutError:
                raise OSError("nothing more was sent for a minute") from None
            if message["type"] == "http.disconnect":
                raise OSError("the connection was cut off")
            self._rest = message.get("body", b"")
        piece, self._rest = self._rest[:size], self._rest[size:]
        return piece


async def _answer(send: Send, status: int, title: str, detail: str) -> None:
    content = render_to_string("common/error.html", {"title": title, "detail": detail}).encode()
    headers = [(b"content-type", b"text/html; charset=utf-8"), (b"content-length", str(len(content)).encode())]
    headers += [(b"connection", b"close"), (b"content-security-policy", settings.CONTENT_SECURITY_POLICY.encode())]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})
