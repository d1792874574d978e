"""Who may come in from the local network: a passphrase, invited phones, and guesses that are slowed down."""

import hmac
import ipaddress
import json
import secrets
import time
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.core import signing
from django.http import HttpRequest, HttpResponseBase
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.web.common.models import Phone
from nembrit.web.common.passphrase import hashed

COOKIE = "nembrit-phone"
_LASTS = timedelta(days=30)
_FREE, _LONGEST_S, _MOST_KNOWN = 3, 300.0, 1000
_SEEN_EVERY = timedelta(minutes=1)


def _is_right(phrase: str) -> bool:
    try:
        kept = json.loads((settings.DATA_FOLDER / "lan.json").read_text())
        return hmac.compare_digest(hashed(phrase.strip().lower(), kept["salt"]), kept["hash"])
    except (OSError, ValueError, KeyError, TypeError):
        return False


@dataclass(slots=True)
class _Guesses:
    """Wrong guesses of one address."""

    n: int = 0
    not_before: float = 0.0


_guesses: dict[str, _Guesses] = {}  # of this process; the other one counts its own


def enter(phrase: str, *, address: str, agent: str) -> Phone:
    """Let a phone in. Raises InputError for a wrong passphrase, and while an address that guessed wrong has to wait.

    After three wrong guesses an address waits 2 s, then twice as long each time, up to five minutes.
    """
    known = _guesses.setdefault(address, _Guesses())
    left_s = known.not_before - time.monotonic()
    if left_s > 0:
        raise InputError(f"too many wrong guesses from here: try again in {left_s:.0f} s")
    if not _is_right(phrase):
        known.n += 1
        if known.n >= _FREE:
            known.not_before = time.monotonic() + min(_LONGEST_S, 2.0 ** (known.n - _FREE + 1))
        if len(_guesses) > _MOST_KNOWN:
            _guesses.pop(next(iter(_guesses)))
        raise InputError(
            "that is not the passphrase; it stands on the page “Phones” of the computer’s own browser and where it was started"
        )
    _guesses.pop(address, None)
    return Phone.objects.create(mark=secrets.token_urlsafe(32), agent=agent[:120], address=address[:45])


def remember(response: HttpResponseBase, phone: Phone) -> None:
    """Give a phone the mark that it is known by."""
    response.set_cookie(
        COOKIE, signing.dumps(phone.mark, salt=COOKIE), max_age=int(_LASTS.total_seconds()), httponly=True, samesite="Lax"
    )


def is_own_computer(request: HttpRequest) -> bool:
    """Whether a request comes from this computer itself, by the connection and nothing that the sender says."""
    try:
        return ipaddress.ip_address(request.META.get("REMOTE_ADDR", "")).is_loopback
    except ValueError:
        return False


def phone_of(request: HttpRequest) -> Phone | None:
    """The invited phone that asks; None for anybody else, and for one that was sent away or not seen for a month."""
    try:
        mark = signing.loads(request.COOKIES.get(COOKIE, ""), salt=COOKIE, max_age=_LASTS)
    except signing.BadSignature:
        return None
    phone = Phone.objects.filter(mark=mark, ended_at=None).first() if isinstance(mark, str) else None
    if phone is not None and timezone.now() - phone.seen_at > _SEEN_EVERY:
        Phone.objects.filter(pk=phone.pk).update(seen_at=timezone.now())
    return phone
