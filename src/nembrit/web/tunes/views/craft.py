"""The craft's home, and its tune with the ledger."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import latest_act_finding
from nembrit.web.common.fields import row_number
from nembrit.web.hangar.models import Craft
from nembrit.web.intake.forms import AttachForm
from nembrit.web.tunes import craft_page, first_steps, history, services, truths, verifying, waiting
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.courses import courses_of
from nembrit.web.tunes.forms import ManyFlightsForm, NewTuneForm, TuneForm
from nembrit.web.tunes.gates import needs_of
from nembrit.web.tunes.hangar import on_the_bench
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.teaching import teaching_of


@require_safe
def hangar(request: HttpRequest) -> HttpResponse:
    """Every craft with its stage, its last result and its next step."""
    return render(request, "tunes/hangar.html", {"bench": on_the_bench(), "put_away": Craft.objects.exclude(archived_at=None)})


@require_safe
def craft(request: HttpRequest, craft_id: int) -> HttpResponse:
    """One craft: bring logs in, fly, look at flights and configurations."""
    shown = get_object_or_404(Craft, pk=craft_id)
    services.tune_of(shown)  # a craft has one from its first page on
    return render(request, "tunes/craft.html", craft_page.context_of(shown) | {"attach_form": AttachForm(craft=shown)})


@require_http_methods(["GET", "POST"])
def first_steps_page(request: HttpRequest, craft_id: int) -> HttpResponse:
    """What only a person can answer about a new craft, in one place."""
    shown = get_object_or_404(Craft, pk=craft_id)
    if request.method == "POST":
        try:
            first_steps.skip(shown, request.POST.get("skip", ""))
        except CoreError as error:
            messages.error(request, f"Nothing was changed: {error}.")
        return redirect("tunes:first_steps", shown.pk)
    asked = first_steps.questions_of(shown)
    left = [one for one in asked if one.is_left]
    headline = (
        f"{len(left)} question{'' if len(left) == 1 else 's'} left about {shown.name}" if left else f"{shown.name} is ready"
    )
    context = {
        "craft": shown, "questions": asked, "first": left[0] if left else None, "headline": headline,
        "flight": first_steps.first_finding(shown),
    }  # fmt: skip
    return render(request, "tunes/first_steps.html", context)


@require_safe
def next_part(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The one next step of a craft: a part of every page that tells it, worked out after the page."""
    shown = get_object_or_404(Craft, pk=craft_id)
    seen = shown.flights.filter(pk=row_number(request.GET.get("flight")) or 0).first()
    return render(request, "tunes/_next.html", {"craft": shown, "advice": advice_of(shown), "seen": seen})


@require_http_methods(["GET", "POST"])
def flights_many(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Card, settings and build noted on many flights at once."""
    shown = get_object_or_404(Craft, pk=craft_id)
    flights = list(shown.flights.active().select_related("configuration", "build_entry")[:200])
    form = ManyFlightsForm(request.POST if request.method == "POST" else None, craft=shown, flights=flights)
    if request.method == "POST" and form.is_valid():
        changed = services.note_on_flights(form.chosen(), **form.noted())
        messages.success(request, f"Noted on {changed} flight{'' if changed == 1 else 's'}.")
        return redirect("tunes:flights_many", shown.pk)
    context = {"craft": shown, "flights": flights, "form": form}
    return render(request, "tunes/flights_many.html", context, status=400 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
def tune(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The tune as its ledger."""
    shown = get_object_or_404(Craft, pk=craft_id)
    newest = services.tune_of(shown)
    present = shown.tunes.filter(pk=row_number(request.GET.get("tune")) or 0).first() or newest
    form = TuneForm(request.POST if request.method == "POST" else None, instance=present)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "The tune is saved.")
        return redirect(present)
    needs = needs_of(present)
    kind = request.GET.get("kind", "")
    kind = kind if kind in history.KINDS else ""
    context = {
        "craft": shown,
        "tune": present,
        "form": form,
        "track": history.track(present),
        "ledger": [line for line in history.ledger(present) if kind in ("", line.kind)],
        "kind": kind,
        "kinds": history.KINDS,
        "advice": advice_of(shown, wait=False),
        "needs": needs,
        "all_met": all(need.is_met for need in needs),
        "is_last": present.stage in (Tune.Stage.VERIFY, Tune.Stage.LOCKED),
        "verification": _verification(present),
        "is_newest": present.pk == newest.pk,
        "tunes": list(shown.tunes.all()),
        "new_form": NewTuneForm(initial={"name": f"Tune {shown.tunes.count() + 1}"}),
        "courses": courses_of(shown),
        "open_slip": services.open_slip(present),
        "waiting": waiting.lines(present),
        "finding": latest_act_finding(shown),
        "record": truths.record_of(shown),
        "teaching": teaching_of(shown) if present.stage != Tune.Stage.LOCKED else None,
    }
    return render(request, "tunes/tune.html", context)


@require_safe
def findings_file(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Findings, their measurements and what they proved to be, as an open file."""
    shown = get_object_or_404(Craft, pk=craft_id)
    answer = JsonResponse(truths.document_of(shown), json_dumps_params={"indent": 1})
    name = f"{shown.name} findings.json"
    answer["Content-Disposition"] = content_disposition_header(as_attachment=True, filename=name) or ""
    return answer


def _verification(present: Tune) -> dict[str, Any] | None:
    """The comparison with the baseline from the stage on that asks for it."""
    if present.stage not in (Tune.Stage.VERIFY, Tune.Stage.LOCKED):
        return None
    found = verifying.verification_of(present)
    rows = [
        (one, services.metric_label(one.name), verifying.is_broken(one), verifying.may_be_worse(one), verifying.limit_pct(one))
        for one in (found.metrics if found else ())
    ]
    return {"found": found, "rows": rows}


@require_POST
def tune_on(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Continue to the next stage."""
    present = services.tune_of(get_object_or_404(Craft, pk=craft_id))
    try:
        label = verifying.go_on(present)
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    else:
        messages.success(request, f"{present.name} is at {label.lower()} now.")
    return redirect(present)


@require_POST
def tune_lock(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Lock the settings of now in as the reference."""
    present = services.tune_of(get_object_or_404(Craft, pk=craft_id))
    try:
        verifying.lock(present, despite=request.POST.get("despite", ""))
    except CoreError as error:
        messages.error(request, f"Nothing was locked in: {error}.")
    else:
        messages.success(request, f"Locked in: {present.locked_configuration} is the reference now.")
    return redirect(present)


@require_POST
def tune_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Begin the craft's next tune."""
    shown = get_object_or_404(Craft, pk=craft_id)
    form = NewTuneForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Not started: a tune needs a name.")
        return redirect("tunes:tune", shown.pk)
    try:
        made = services.begin_tune(shown, **form.cleaned_data)
    except CoreError as error:
        messages.error(request, f"Not started: {error}.")
    else:
        messages.success(request, f"“{made.name}” started, from its baseline.")
    return redirect("tunes:tune", shown.pk)
