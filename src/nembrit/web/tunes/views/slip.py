"""Slips: written, flown, judged and decided."""

from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import ensure_results, latest_act_finding
from nembrit.web.bench.services import AXES
from nembrit.web.common.once import once
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import GROUPS, latest_configuration
from nembrit.web.tunes import charts, history, proposals, services, slip_page
from nembrit.web.tunes.forms import AnswerForm, DecisionForm, ExtendForm, SlipForm, ValuesForm
from nembrit.web.tunes.models import Slip


@require_http_methods(["GET", "POST"])
def slip_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Write a slip: first the group, then the new values of that group only."""
    shown = get_object_or_404(Craft, pk=craft_id)
    present = services.tune_of(shown)
    latest = latest_configuration(shown)
    groups = services.groups_of(latest) if latest else [("hardware", GROUPS["hardware"], 0)]
    group = request.POST.get("group") or request.GET.get("group", "")
    posted = request.POST if request.method == "POST" else None
    settings = services.group_settings(latest, group) if latest and group in GROUPS and group != "hardware" else []
    try:
        filled = proposals.proposal(shown, latest, group, request.GET) if posted is None else None
    except CoreError as error:
        filled = None
        messages.error(request, f"Nothing was filled in: {error}.")
    form = SlipForm(posted, initial=services.suggested(group) | (filled.text if filled else {}))
    values = ValuesForm(posted, settings=settings, latest=latest) if latest and group != "hardware" else None
    if values and filled:
        values.fill(filled.values)
    status = 400 if form.is_bound else 200
    if form.is_bound and form.is_valid() and (values is None or values.is_valid()):

        def write() -> str:
            slip = services.make_slip(
                present, group=group, text=form.text(), part=form.cleaned_data["part"],
                values=values.values() if values else {}, shown_from=values.cleaned_data["revision"] if values else None,
            )  # fmt: skip
            made = slip.result_configuration or slip.result_build
            messages.success(request, f"Slip {slip.number} is written, {made} is made. Now fly it.")
            return slip.get_absolute_url()

        try:
            return redirect(once(request, write))
        except services.OlderRevision as error:
            form.add_error(None, str(error))
            status = 409
            if values and latest:
                values.shown_anew(latest)
        except CoreError as error:
            form.add_error(None, str(error))
    context = {
        "craft": shown,
        "tune": present,
        "latest": latest,
        "groups": groups,
        "group": group,
        "group_label": GROUPS.get(group, ""),
        "values": values,
        "form": form,
        "filled": filled,
        "open_slip": services.open_slip(present),
        "finding": latest_act_finding(shown),
    }
    return render(request, "tunes/slip_new.html", context, status=status)


@require_POST
def repair(request: HttpRequest, flight_id: int) -> HttpResponse:
    """One press: the repair that a finding asks for, as a slip with its flights and verdict."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    try:
        slip = services.make_repair(flight)
    except CoreError as error:
        messages.error(request, f"Nothing was written: {error}.")
        return redirect(flight)
    messages.success(request, f"Slip {slip.number} is written: {slip.result_build}. Repair it, then fly the same card.")
    return redirect(slip)


@require_safe
def slip(request: HttpRequest, slip_id: int) -> HttpResponse:
    """One change, the flights that judge it, and the one sentence that they allow."""
    shown = get_object_or_404(
        Slip.objects.select_related("tune__craft", "result_configuration", "base_configuration", "decision"), pk=slip_id
    )
    context = slip_page.context_of(shown)
    context |= {
        "track": history.track(shown.tune),
        "waiting": ensure_results([row.flight for row in context["judged"] if row.standing is None]),
        "extend_form": ExtendForm(initial={"total": context["next_total"]}),
    }
    return render(request, "tunes/slip.html", context)


@require_safe
def slip_chart(request: HttpRequest, slip_id: int, kind: str, axis: str) -> HttpResponse:
    """One before/after picture as data for the chart module."""
    if kind not in ("noise", "step") or axis not in AXES:
        raise Http404
    chart = charts.slip_chart(get_object_or_404(Slip, pk=slip_id), kind, axis)
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())


@require_POST
def slip_decide(request: HttpRequest, slip_id: int) -> HttpResponse:
    shown = get_object_or_404(Slip, pk=slip_id)
    form = DecisionForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Choose keep or undo.")
        return redirect(shown)
    return _told(
        request, shown, lambda: services.decide(shown, form.cleaned_data["outcome"], note=form.cleaned_data["note"]),
        lambda decision: f"Slip {shown.number} is {decision.get_outcome_display()}.",
    )  # fmt: skip


@require_POST
def slip_answer(request: HttpRequest, slip_id: int, flight_id: int) -> HttpResponse:
    """Use a flight or leave it out, with the reason where it goes against the rule."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    flight = get_object_or_404(shown.tune.craft.flights, pk=flight_id)
    form = AnswerForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Choose whether the flight is used; the reason has at most 200 characters.")
        return redirect(shown)
    use, why = form.cleaned_data["use"], form.cleaned_data["why"]
    words = {"in": "is used", "out": "is left out", "": "counts as the rule says"}
    return _told(
        request, shown, lambda: services.answer(shown, flight, use, why=why), lambda _: f"Flight {flight.number} {words[use]}."
    )


@require_POST
def slip_extend(request: HttpRequest, slip_id: int) -> HttpResponse:
    """Declare that the trial goes on beyond what was planned."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    form = ExtendForm(request.POST)
    if not form.is_valid():
        messages.error(request, f"{form['total'].label}: {' '.join(map(str, form.errors['total']))}")
        return redirect(shown)
    total = form.cleaned_data["total"]
    return _told(request, shown, lambda: services.extend(shown, total), lambda _: f"It goes on to {total} flights a side.")


@require_POST
def slip_card(request: HttpRequest, slip_id: int) -> HttpResponse:
    """The flights of both sides without a card flew the slip's card."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    return _told(
        request,
        shown,
        lambda: services.give_card(shown),
        lambda n: f"{n} flight{'' if n == 1 else 's'} got the card of this slip.",
    )


def _told(request: HttpRequest, shown: Slip, do: Callable[[], Any], words: Callable[[Any], str]) -> HttpResponse:
    """Do it and say so, or say why nothing was changed; then show the slip."""
    try:
        done = do()
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    else:
        messages.success(request, words(done))
    return redirect(shown)
