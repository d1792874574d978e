"""Who may come in from the local network: a passphrase, invited phones, and guesses that are slowed down."""

import hmac
import ipaddress
import json
import math
import re
import secrets
import sqlite3
import time
from contextlib import closing
from datetime import timedelta

from django.conf import settings
from django.core import signing
from django.db import connection
from django.http import HttpRequest, HttpResponseBase
from django.http.cookie import parse_cookie
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.given import clean_text
from nembrit.web.common.models import Phone
from nembrit.web.common.passphrase import grouped, hashed

COOKIE = "nembrit-phone"
_LASTS = timedelta(days=30)
_FREE, _LONGEST_S, _FORGOTTEN_S, _TURN_S = 3, 300.0, 3600.0, 5.0
_SEEN_EVERY = timedelta(minutes=1)


def _is_right(phrase: str) -> bool:
    """Blanks, hyphens and capitals do not count."""
    signs = re.sub(r"[\s\-\u2010-\u2015]+", "", phrase.lower())
    try:
        kept = json.loads((settings.DATA_FOLDER / "lan.json").read_text())
        return hmac.compare_digest(hashed(grouped(signs), kept["salt"]), kept["hash"])
    except (OSError, ValueError, KeyError, TypeError):
        return False


def enter(phrase: str, *, address: str, agent: str) -> Phone:
    """Let a phone in. Raises InputError for a wrong passphrase, and while an address that guessed wrong has to wait.

    After three wrong guesses an address waits 2 s, then twice as long each time, up to five minutes. All processes count in one
    file, and one guess is tried at a time.
    """
    with closing(_guesses()) as counted:
        _still_waits(counted, address)
        try:
            counted.execute("BEGIN EXCLUSIVE")
        except sqlite3.OperationalError:
            raise InputError("others are trying at the same time: try again in a moment") from None
        n = _still_waits(counted, address)
        if not _is_right(phrase):
            wait_s = min(_LONGEST_S, 2.0 ** (n + 1 - _FREE + 1)) if n + 1 >= _FREE else 0.0
            counted.execute("REPLACE INTO guesses VALUES (?, ?, ?)", (address, n + 1, time.time() + wait_s))
            counted.execute("DELETE FROM guesses WHERE not_before < ?", (time.time() - _FORGOTTEN_S,))
            counted.execute("COMMIT")
            raise InputError(
                "wrong passphrase. It was shown once, where Nembrit was started; run.py serve --lan --new-passphrase "
                "makes another"
            )
        counted.execute("DELETE FROM guesses WHERE address = ?", (address,))
        counted.execute("COMMIT")
    return Phone.objects.create(mark=secrets.token_urlsafe(32), agent=clean_text(agent, most=120), address=address[:45])


def _guesses() -> sqlite3.Connection:
    """Wrong guesses by address, apart from the workshop: guests never hold its write lock."""
    counted = sqlite3.connect(settings.DATA_FOLDER / "guesses.sqlite3", timeout=_TURN_S, isolation_level=None)
    counted.execute("CREATE TABLE IF NOT EXISTS guesses (address TEXT PRIMARY KEY, n INTEGER, not_before REAL)")
    return counted


def _still_waits(counted: sqlite3.Connection, address: str) -> int:
    """How often this address guessed wrong. Raises InputError while it has to wait."""
    n, not_before = counted.execute("SELECT n, not_before FROM guesses WHERE address = ?", (address,)).fetchone() or (0, 0.0)
    left_s = not_before - time.time()
    if left_s > 0:
        raise InputError(f"too many wrong guesses from here: try again in {math.ceil(min(left_s, _LONGEST_S))} s")
    return int(n)


def remember(response: HttpResponseBase, phone: Phone) -> None:
    """Give a phone the mark that it is known by."""
    response.set_cookie(
        COOKIE, signing.dumps(phone.mark, salt=COOKIE), max_age=int(_LASTS.total_seconds()), httponly=True, samesite="Lax"
    )


def is_own_computer(request: HttpRequest) -> bool:
    """Whether a request comes from this computer itself, by the connection and nothing that the sender says."""
    return is_loopback(request.META.get("REMOTE_ADDR", ""))


def is_loopback(address: str) -> bool:
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return False


def is_invited(cookies: str) -> bool:
    """Whether the sender of a header of cookies was let in."""
    try:
        return _phone_by(parse_cookie(cookies).get(COOKIE, "")) is not None
    finally:
        connection.close_if_unusable_or_obsolete()


def phone_of(request: HttpRequest) -> Phone | None:
    """The invited phone that asks; None for anybody else, and for one that was sent away or not seen for a month."""
    return _phone_by(request.COOKIES.get(COOKIE, ""))


def _phone_by(signed: str) -> Phone | None:
    try:
        mark = signing.loads(signed, salt=COOKIE, max_age=_LASTS)
    except signing.BadSignature:
        return None
    phone = Phone.objects.filter(mark=mark, ended_at=None).first() if isinstance(mark, str) else None
    if phone is not None and timezone.now() - phone.seen_at > _SEEN_EVERY:
        Phone.objects.filter(pk=phone.pk).update(seen_at=timezone.now())
    return phone
