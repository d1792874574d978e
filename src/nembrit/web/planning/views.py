"""Planned sessions: the list of a craft, and the calendar file."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft
from nembrit.web.planning import services
from nembrit.web.planning.forms import SessionForm
from nembrit.web.planning.models import Session


@require_http_methods(["GET", "POST"])
def sessions(request: HttpRequest, craft_id: int) -> HttpResponse:
    """What is planned for a craft, and a new session."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = SessionForm(request.POST if request.method == "POST" else None, instance=Session(craft=craft), craft=craft)
    if request.method == "POST" and form.is_valid():

        def make() -> str:
            form.save()
            messages.success(request, "Session planned. It is in the calendar file, too.")
            return request.path

        return redirect(once(request, make))
    own = list(craft.sessions.all())
    now = timezone.now()
    context = {
        "craft": craft, "form": form, "coming": [one for one in own if one.starts_at >= now],
        "past": [one for one in own if one.starts_at < now],
    }  # fmt: skip
    return render(request, "planning/sessions.html", context, status=400 if form.is_bound else 200)


@require_POST
def session_away(request: HttpRequest, craft_id: int, session_id: int) -> HttpResponse:
    gone = get_object_or_404(Session, pk=session_id, craft=craft_id)
    gone.delete()
    messages.success(request, f"“{gone}” removed. Remove it from your calendar, too.")
    return redirect("planning:sessions", craft_id)


@require_safe
def calendar(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The planned sessions of a craft as a calendar file."""
    craft = get_object_or_404(Craft, pk=craft_id)
    content = services.calendar_of(craft.sessions.select_related("craft"), name=f"{craft.name}, planned sessions")
    headers = {"Content-Disposition": 'attachment; filename="sessions.ics"'}
    return HttpResponse(content, content_type="text/calendar; charset=utf-8", headers=headers)
