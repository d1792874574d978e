"""Phones in the local network: coming in with the passphrase, and who is in, as the computer's own browser sees it."""

import io
from typing import Any

import segno
from django.conf import settings
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import InputError
from nembrit.web.common import lan
from nembrit.web.common.models import Phone


@require_http_methods(["GET", "POST"])
def enter(request: HttpRequest) -> HttpResponse:
    """The only page that a phone sees before it is let in."""
    wanted = request.POST.get("next") or request.GET.get("next", "/")
    back = wanted if url_has_allowed_host_and_scheme(wanted, allowed_hosts=None) else "/"
    error = ""
    if request.method == "POST":
        try:
            phone = lan.enter(
                request.POST.get("passphrase", "")[:100],
                address=request.META.get("REMOTE_ADDR", ""),
                agent=request.headers.get("User-Agent", ""),
            )
        except InputError as refused:
            error = str(refused)
        else:
            answer = redirect(back)
            lan.remember(answer, phone)
            return answer
    return render(request, "common/enter.html", {"next": back, "error": error}, status=403 if error else 200)


def _own_only(request: HttpRequest) -> None:
    if not lan.is_own_computer(request):
        raise Http404


@require_safe
def phones(request: HttpRequest) -> HttpResponse:
    """Where phones come in, and which ones are in; only on this computer."""
    _own_only(request)
    port = request.get_port()
    addresses = [f"http://{host}:{port}/" for host in settings.LAN_HOSTS]
    context: dict[str, Any] = {"addresses": addresses, "phones": Phone.objects.filter(ended_at=None)}
    return render(request, "common/phones.html", context)


@require_safe
def phones_code(request: HttpRequest) -> HttpResponse:
    """The first address as a QR code."""
    _own_only(request)
    if not settings.LAN_HOSTS:
        raise Http404
    out = io.BytesIO()
    code = segno.make(f"http://{settings.LAN_HOSTS[0]}:{request.get_port()}/", error="m")
    code.save(out, kind="svg", scale=5, border=4, dark="#1d2833", light="#fffdf7")
    return HttpResponse(out.getvalue(), content_type="image/svg+xml")


@require_POST
def phone_end(request: HttpRequest, phone_id: int) -> HttpResponse:
    """Send a phone away: its next request asks for the passphrase."""
    _own_only(request)
    Phone.objects.filter(pk=phone_id, ended_at=None).update(ended_at=timezone.now())
    messages.success(request, "Phone disconnected. It needs the passphrase to connect again.")
    return redirect("common:phones")
