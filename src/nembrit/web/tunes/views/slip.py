"""Slips: written, flown, judged and decided."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import ensure_results, latest_act_finding
from nembrit.web.bench.services import AXES
from nembrit.web.common.fields import row_number
from nembrit.web.common.once import once
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import GROUPS, latest_configuration
from nembrit.web.tunes import charts, history, proposals, provoking, reopening, services, slip_page, truths, waiting, wingcare
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.forms import AnswerForm, DecisionForm, ExtendForm, ProvokeForm, SlipForm, ValuesForm
from nembrit.web.tunes.models import Decision, Slip, Truth, Tune, WaitingSlip
from nembrit.web.tunes.offers import offers_of
from nembrit.web.tunes.predictions import ruling_of


@require_http_methods(["GET", "POST"])
def slip_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Write a slip: first the group, then the new values of that group; fly it now, or keep it for later."""
    shown = get_object_or_404(Craft, pk=craft_id)
    present = services.tune_of(shown)
    latest = latest_configuration(shown)
    given = request.POST if request.method == "POST" else request.GET
    kept = present.waiting.filter(pk=row_number(given.get("waiting")) or 0).first()
    group = given.get("group", "") or (kept.group if kept else "")
    also = given.get("also", "") or (kept.also if kept and request.method == "GET" else "")
    also = also if also in GROUPS and "hardware" not in (group, also) and also != group else ""
    settings = [one for key in (group, also) if key in GROUPS and latest for one in services.group_settings(latest, key)]
    filled = _filled(request, shown, latest, group, kept)
    start = services.suggested(group, shown.kind) | (filled.text if filled else {}) | (waiting.filled(kept) if kept else {})
    form = SlipForm(request.POST if request.method == "POST" else None, initial=start, craft=shown)
    values = (
        ValuesForm(form.data if form.is_bound else None, settings=settings, latest=latest)
        if latest and group != "hardware"
        else None
    )
    if values:
        values.fill(kept.values if kept else filled.values if filled else {})
    status = 400 if form.is_bound else 200
    if form.is_bound and form.is_valid() and (values is None or values.is_valid()):
        write = partial(_later if "later" in given else _write, request, present, group, also, form, values, kept)
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
        "craft": shown, "tune": present, "latest": latest, "group": group, "also": also, "values": values, "form": form,
        "groups": services.groups_of(latest) if latest else [("hardware", GROUPS["hardware"], 0)], "filled": filled,
        "group_label": GROUPS.get(group, ""), "also_label": GROUPS.get(also, ""), "kept": kept, "waiting": waiting.lines(present),
        "open_slip": services.open_slip(present), "advice": advice_of(shown, wait=False), "finding": latest_act_finding(shown),
        "trim_first": wingcare.pull_stands(shown) if group == "navigation" else None,
        "ruling": ruling_of(shown, latest, _typed(values)) if latest and values else None,
        "headline": _headline(group, also), "filled_words": _filled_words(filled, group),
    }  # fmt: skip
    return render(request, "tunes/slip_new.html", context, status=status)


@require_safe
def slip_offers(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The changes that the craft's flights propose: a part of the page of a new slip, calculated after it."""
    shown = get_object_or_404(Craft, pk=craft_id)
    advised = advice_of(shown).url
    return render(request, "tunes/_offers.html", {"craft": shown, "offers": offers_of(shown, advised)})


def _headline(group: str, also: str) -> str:
    if group not in GROUPS:
        return "Write a slip"
    return f"Change: {GROUPS[group]}{f' and {GROUPS[also]}' if also else ''}"


def _filled_words(filled: proposals.Proposal | None, group: str) -> str:
    """What a proposal says of itself, before its flight."""
    if filled is None:
        return ""
    if filled.values:
        return "Proposed values are highlighted; you can change everything. Based on"
    if filled.notes:
        return "No proposal. Type your own values. Based on"
    return f"{GROUPS.get(group, group)} need no change. Type your own values. Based on"


def _typed(values: ValuesForm) -> dict[str, str]:
    """The values that a form holds, sent or filled in."""
    if values.is_bound:
        return values.values() if values.is_valid() else {}
    return {setting.name: str(field.value() or "") for setting, field in values.rows()}


def _filled(
    request: HttpRequest, shown: Craft, latest: Configuration | None, group: str, kept: WaitingSlip | None
) -> proposals.Proposal | None:
    """What a bench or a finding fills in; nothing for what was sent, or kept before."""
    if request.method == "POST" or kept:
        return None
    try:
        return proposals.proposal(shown, latest, group, request.GET)
    except CoreError as error:
        messages.error(request, f"Nothing was filled in: {error}.")
        return None


def _titled(form: SlipForm, values: ValuesForm | None) -> services.SlipText:
    """What is written on the slip; without a title, what changes is its title."""
    text = form.text()
    if text.title:
        return text
    changes = values.changes() if values else []
    title = ", ".join(f"{name} {old} → {new}" for name, old, new in changes) or form.cleaned_data["part"] or "no change"
    return replace(text, title=title if len(title) <= 120 else title[:117] + "…")


def _write(
    request: HttpRequest, tune: Tune, group: str, also: str, form: SlipForm, values: ValuesForm | None, kept: WaitingSlip | None
) -> str:
    """Make it the next change; one that waited does so no longer."""
    slip = services.make_slip(
        tune, group=group, also=also, text=_titled(form, values), part=form.cleaned_data["part"],
        values=values.values() if values else {}, shown_from=values.cleaned_data["revision"] if values else None,
        confounded=form.cleaned_data["confounded"],
    )  # fmt: skip
    if kept:
        kept.delete()
    messages.success(
        request,
        f"Slip {slip.number} is written, {slip.result_configuration or slip.result_build} is saved. Put it "
        f"on the craft, then fly.",
    )
    return slip.get_absolute_url()


def _later(
    request: HttpRequest, tune: Tune, group: str, also: str, form: SlipForm, values: ValuesForm | None, kept: WaitingSlip | None
) -> str:
    """Save for later: nothing on the craft changes."""
    made = waiting.keep(
        tune, group=group, also=also, text=_titled(form, values), values=values.values() if values else {},
        part=form.cleaned_data["part"], confounded=form.cleaned_data["confounded"],
    )  # fmt: skip
    if kept:
        kept.delete()
    messages.success(request, f"“{made.title}” is saved for later; nothing on the craft changed.")
    return reverse("tunes:tune", args=[tune.craft_id])


@require_POST
def slip_waiting(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Put one that waits away, or predict all of them anew."""
    tune = services.tune_of(get_object_or_404(Craft, pk=craft_id))
    if request.POST.get("do") == "predict":
        waiting.predict_anew(tune)
        messages.success(request, "Prediction updated for the current settings.")
    else:
        gone = get_object_or_404(tune.waiting, pk=row_number(request.POST.get("waiting")) or 0)
        gone.delete()
        messages.success(request, f"“{gone.title}” is removed.")
    return redirect("tunes:tune", craft_id)


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
        Slip.objects.select_related("tune__craft", "result_configuration", "base_configuration", "decision", "cause_flight"),
        pk=slip_id,
    )
    found = slip_page.context_of(shown)
    context = found | {
        "track": history.track(shown.tune),
        "waiting": ensure_results([row.flight for row in found["judged"] if row.standing is None]),
        "extend_form": ExtendForm(initial={"total": found["next_total"]}),
    }
    if provoking.is_repair(shown):
        context |= {"truths": truths.choices(), "truth": Truth.objects.filter(slip=shown).first()}
        context |= {"provocation": provoking.provocation_of(shown), "provoke_form": _provoke_form(shown)}
    return render(request, "tunes/slip.html", context)


def _provoke_form(shown: Slip) -> ProvokeForm:
    """As it was planned; else what was special about the flight whose finding led to the repair."""
    planned = shown.provoke.get("conditions") or [{"name": one.name, "value": one.value} for one in provoking.proposed(shown)]
    fault = shown.provoke.get("fault", "") or shown.cause_code.replace("_", " ")
    return ProvokeForm(initial=ProvokeForm.start({one["name"]: one["value"] for one in planned}, fault))


@require_POST
def slip_provoke(request: HttpRequest, slip_id: int) -> HttpResponse:
    """Fix the conditions under which a repaired fault must stay away."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    form = ProvokeForm(request.POST)
    if not form.is_valid():
        told = " ".join(f"{form[name].label}: {' '.join(map(str, errors))}" for name, errors in form.errors.items())
        messages.error(request, f"Nothing was changed. {told}")
        return redirect(shown)
    return _told(
        request, shown, lambda: provoking.plan(shown, form.conditions(), fault=form.cleaned_data["fault"]),
        lambda _: "Conditions saved. Fly them, the first seconds close and low.",
    )  # fmt: skip


@require_POST
def slip_provoked(request: HttpRequest, slip_id: int, flight_id: int) -> HttpResponse:
    """What the pilot saw of the old fault in one flight."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    flight = get_object_or_404(shown.tune.craft.flights.active(), pk=flight_id)
    came_back = request.POST.get("came_back")
    if came_back not in ("yes", "no"):
        messages.error(request, "Choose whether the fault came back.")
        return redirect(shown)
    return _told(
        request, shown, lambda: provoking.answer(shown, flight, came_back=came_back == "yes"),
        lambda _: f"Flight {flight.number}: it {'came back' if came_back == 'yes' else 'did not return'}.",
    )  # fmt: skip


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
    outcome, note = form.cleaned_data["outcome"], form.cleaned_data["note"]

    def decide() -> Decision:
        services.require_reason(shown, outcome, note)
        return services.decide(shown, outcome, note=note)

    return _told(
        request, shown, decide,
        lambda decision: f"Slip {shown.number} is {decision.get_outcome_display()}.",
    )  # fmt: skip


@require_POST
def slip_truth(request: HttpRequest, slip_id: int) -> HttpResponse:
    """What a repair proved to be wrong."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft", "cause_flight"), pk=slip_id)
    given = request.POST
    return _told(
        request, shown, lambda: truths.tell(shown, given.get("cause", ""), words=given.get("words", "")),
        lambda _: "Fault recorded.",
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
    words = {"in": "is used", "out": "is left out", "": "counts by the rule"}
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
    return _told(
        request, shown, lambda: services.extend(shown, total), lambda _: f"The trial continues to {total} flights per side."
    )


@require_POST
def slip_look(request: HttpRequest, slip_id: int) -> HttpResponse:
    """Show the numbers before the planned flights are flown; that is kept, and makes the verdict stricter."""
    shown = get_object_or_404(Slip, pk=slip_id, decision=None)
    return _told(request, shown, lambda: reopening.look(shown), lambda _: "The early look is recorded.")


@require_POST
def slip_reopen(request: HttpRequest, slip_id: int) -> HttpResponse:
    """Take a decision back."""
    shown = get_object_or_404(Slip, pk=slip_id)
    why = request.POST.get("why", "")
    return _told(request, shown, lambda: reopening.reopen(shown, why=why), lambda _: f"Slip {shown.number} is reopened.")


@require_POST
def slip_card(request: HttpRequest, slip_id: int) -> HttpResponse:
    """The flights of both sides without a card flew the slip's card."""
    shown = get_object_or_404(Slip.objects.select_related("tune__craft"), pk=slip_id, decision=None)
    return _told(
        request,
        shown,
        lambda: services.give_card(shown),
        lambda n: f"{n} flight{'' if n == 1 else 's'} now have the card of this slip.",
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
