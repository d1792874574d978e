"""A form that is sent twice (a double click, a page shown again) does its work once, and leads to the same place."""

import secrets
from collections.abc import Callable
from datetime import timedelta

from django.db import transaction
from django.dispatch import receiver
from django.http import HttpRequest
from django.utils import timezone

from nembrit.web.common.jobs import worker_started
from nembrit.web.common.models import SentForm

FIELD = "once"
_KEPT = timedelta(days=2)


def new_mark() -> str:
    """For a hidden field of a form that makes something."""
    return secrets.token_urlsafe(16)


def once(request: HttpRequest, make: Callable[[], str]) -> str:
    """The address of what `make` made, now or when this form came first. What `make` raises leaves nothing behind."""
    mark = request.POST.get(FIELD, "")[:64]
    if not mark:
        return make()
    with transaction.atomic():
        before = SentForm.objects.filter(mark=mark).first()
        if before is not None:
            return before.address
        address = make()
        SentForm.objects.create(mark=mark, address=address[:500])
    return address


def sent_before(request: HttpRequest) -> str | None:
    """Where this very form led when it came first; None for one that is new."""
    mark = request.POST.get(FIELD, "")[:64]
    before = SentForm.objects.filter(mark=mark).first() if mark else None
    return before.address if before else None


@receiver(worker_started)
def _forget_old(**named: object) -> None:
    SentForm.objects.filter(sent_at__lt=timezone.now() - _KEPT).delete()
