"""Static files, the owner on loopback, and sentences instead of stack traces."""

import gzip
from collections.abc import Callable
from functools import lru_cache
from typing import cast
from urllib.parse import urlencode

from django.conf import settings
from django.contrib.sessions.exceptions import SessionInterrupted
from django.contrib.sessions.middleware import SessionMiddleware
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase, HttpResponseRedirect, QueryDict
from django.middleware.csrf import CsrfViewMiddleware
from django.shortcuts import render
from django.utils.functional import SimpleLazyObject
from whitenoise.middleware import WhiteNoiseMiddleware
from whitenoise.responders import StaticFile

from nembrit.core.errors import CoreError
from nembrit.web.common.database import drop_stale_connection, one_workshop
from nembrit.web.common.door import ENTRANCE, TOKEN_KEY
from nembrit.web.common.fields import MOST_ID
from nembrit.web.common.lan import is_own_computer, phone_of
from nembrit.web.common.models import User

Next = Callable[[HttpRequest], HttpResponseBase]


class StaticFiles(WhiteNoiseMiddleware):  # type: ignore[misc]  # has no types
    """WhiteNoise straight from the apps' folders; whole answers, since file iterators block under ASGI."""

    def __init__(self, get_response: Next) -> None:
        super().__init__(get_response)
        self.use_finders = True
        self.autorefresh = True

    @staticmethod
    def serve(static_file: StaticFile, request: HttpRequest) -> HttpResponse:
        answer = static_file.get_response(request.method, request.META)
        content = answer.file.read() if answer.file is not None else b""
        if answer.file is not None:
            answer.file.close()
        response = HttpResponse(content, status=int(answer.status))
        for key, value in answer.headers:
            response[key] = value
        if response.headers.get("Content-Type", "").startswith(_SHRINKS):
            _shrink(response, request)
        return response


_SHRINKS = ("text/", "application/javascript", "image/svg")
_LEAST_BYTES = 1000


def _shrink(response: HttpResponse, request: HttpRequest) -> None:
    """Pack words for who takes them packed: a phone at the field waits for the air. Files only, never pages with secrets."""
    response["Vary"] = "Accept-Encoding"
    is_whole = response.status_code == 200 and len(response.content) >= _LEAST_BYTES
    if is_whole and request.method == "GET" and "gzip" in request.headers.get("Accept-Encoding", ""):
        response.content = _packed(response.content)
        response["Content-Encoding"] = "gzip"
        response["Content-Length"] = str(len(response.content))


@lru_cache(maxsize=128)
def _packed(content: bytes) -> bytes:
    return gzip.compress(content, compresslevel=6, mtime=0)


class ContentSecurity:
    """A page may load and run only what ships with the application."""

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", settings.CONTENT_SECURITY_POLICY)
        return response


class PatientSessions(SessionMiddleware):
    """While the workshop is locked by a long write, a page that only shows comes all the same; its messages come once more."""

    def process_response(self, request: HttpRequest, response: HttpResponse) -> HttpResponse:
        try:
            return super().process_response(request, response)
        except SessionInterrupted:
            if request.method in ("GET", "HEAD"):
                return response
            raise


class TokenBeforeFiles(CsrfViewMiddleware):
    """Django's check of the page's token; that of a form with files stands in its address or a header, so that it is
    checked before the files are read."""

    def _check_token(self, request: HttpRequest) -> None:
        if request.content_type != "multipart/form-data":
            super()._check_token(request)  # type: ignore[misc]  # not in the stubs
            return
        request.META.setdefault(settings.CSRF_HEADER_NAME, request.GET.get(TOKEN_KEY, ""))
        request._post = QueryDict()  # type: ignore[attr-defined]  # nothing is read for the check
        try:
            super()._check_token(request)  # type: ignore[misc]  # not in the stubs
        finally:
            del request._post  # type: ignore[attr-defined]  # read properly afterwards


class OneWorkshop:
    """What a request writes goes into the workshop that it began with, also when a backup is restored meanwhile."""

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def process_view(self, request: HttpRequest, view: object, args: object, kwargs: dict[str, object]) -> None:
        """No row has a number that the database cannot hold."""
        if any(isinstance(value, int) and value > MOST_ID for value in kwargs.values()):
            raise Http404

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        drop_stale_connection()
        with one_workshop():
            return self.get_response(request)


class InvitedOnly:
    """From the local network only phones that gave the passphrase come in; this computer itself needs none.

    Before the body of a request is read, and before sessions, tokens and views.
    """

    _OWNER_ONLY = ("/phones/", "/backup/", "/archive/")

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        if is_own_computer(request) or (settings.LAN_HOSTS and request.path == ENTRANCE):
            return self.get_response(request)
        if not settings.LAN_HOSTS or phone_of(request) is None:
            return self._turned_away(request)
        if request.path.startswith(self._OWNER_ONLY):
            return HttpResponse("Available only on the computer itself.", status=403, content_type="text/plain; charset=utf-8")
        return self.get_response(request)

    def _turned_away(self, request: HttpRequest) -> HttpResponseBase:
        if not settings.LAN_HOSTS or request.method not in ("GET", "HEAD"):
            return HttpResponse("Enter the passphrase first.", status=403, content_type="text/plain; charset=utf-8")
        return HttpResponseRedirect(f"{ENTRANCE}?{urlencode({'next': request.get_full_path()})}")


def _owner() -> User:
    owner, _ = User.objects.get_or_create(username="owner")
    return owner


class OwnerOnLoopback:
    """The workshop has one owner, who needs no login on this computer; Host and Origin are checked by Django."""

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        request.user = cast("User", SimpleLazyObject(_owner))  # looked up where somebody asks
        return self.get_response(request)


class SentencesForErrors:
    """A deliberate error that no form caught becomes a page with its sentence."""

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, exception: Exception) -> HttpResponse | None:
        if isinstance(exception, CoreError):
            return render(request, "common/error.html", {"title": "That did not work", "detail": str(exception)}, status=400)
        return None
