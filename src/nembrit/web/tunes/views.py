"""The craft's home, its tune with the ledger, slips with their verdict."""

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import act_finding_of, by_flight, ensure_results, latest_act_finding
from nembrit.web.bench.services import AXES
from nembrit.web.common.jobs import latest_jobs
from nembrit.web.common.once import once
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import GROUPS, diff, latest_configuration
from nembrit.web.intake.forms import AttachForm
from nembrit.web.logs.models import Log
from nembrit.web.tunes import charts, history, services, trials
from nembrit.web.tunes.forms import DecisionForm, SlipForm, TuneForm, ValuesForm
from nembrit.web.tunes.models import Slip


@require_safe
def craft(request: HttpRequest, craft_id: int) -> HttpResponse:
    """One craft: bring logs in, fly, look at flights and configurations."""
    shown = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(shown)
    flights = list(shown.flights.active().select_related("configuration", "build_entry")[:60])
    waiting = ensure_results(flights)
    analysed = by_flight(flights, "metrics", "judgement")
    unfinished = list(shown.logs.filter(state__in=(Log.State.WAITING, Log.State.REFUSED), archived_at=None))
    refused = [log for log in unfinished if log.state == Log.State.REFUSED and not log.is_simulated]
    log_ids = [log.pk for log in unfinished if log not in refused]
    context = {
        "craft": shown,
        "tune": tune,
        "track": history.track(tune),
        "open_slip": services.open_slip(tune),
        "flights": analysed,
        "n_archived": shown.flights.exclude(archived_at=None).count(),
        "configurations": list(shown.configurations.all()[:8]),
        "builds": shown.build_entries.order_by("-made_at")[:6],
        "attach_form": AttachForm(craft=shown),
        "jobs": [*latest_jobs(("import_log", "simulate"), log_ids), *waiting],
        "refused": refused,
        "asking": shown.logs.filter(state=Log.State.ASKING, archived_at=None),
        "loose_logs": shown.logs.filter(state=Log.State.READY, segments=None, archived_at=None),
        "finding": act_finding_of(analysed),
    }
    return render(request, "tunes/craft.html", context)


@require_http_methods(["GET", "POST"])
def tune(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The tune as its ledger."""
    shown = get_object_or_404(Craft, pk=craft_id)
    present = services.tune_of(shown)
    form = TuneForm(request.POST if request.method == "POST" else None, instance=present)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "The tune is kept.")
        return redirect(present)
    context = {
        "craft": shown,
        "tune": present,
        "form": form,
        "track": history.track(present),
        "ledger": history.ledger(present),
        "open_slip": services.open_slip(present),
        "finding": latest_act_finding(shown),
    }
    return render(request, "tunes/tune.html", context)


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
    form = SlipForm(posted, initial=services.suggested(group))
    values = ValuesForm(posted, settings=settings, latest=latest) if latest and group != "hardware" else None
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
        return redirect("bench:flight", flight.pk)
    sound = [str(flight.number) for flight in slip.left_out.order_by("number")]
    told = f" Before the fault first showed: flight {', '.join(sound)}, left out of the comparison." if sound else ""
    messages.success(request, f"Slip {slip.number} is written: {slip.result_build}. Repair it, then fly the same card.{told}")
    return redirect(slip)


@require_safe
def slip(request: HttpRequest, slip_id: int) -> HttpResponse:
    """One change, the flights that judge it, before and after on the same scales, and the verdict."""
    shown = get_object_or_404(
        Slip.objects.select_related("tune__craft", "result_configuration", "base_configuration", "decision"), pk=slip_id
    )
    trial = trials.trial_of(shown)
    comparison = trial.comparison
    base, result = shown.base_configuration, shown.result_configuration
    changes = diff(base, result) if base and result else ()
    context = {
        "craft": shown.tune.craft,
        "tune": shown.tune,
        "track": history.track(shown.tune),
        "slip": shown,
        "group_label": GROUPS[shown.group],
        "changes": changes,
        "comparison": comparison,
        "primary": comparison.primary,
        "primary_label": services.metric_label(shown.primary_metric),
        "rows": [(metric, services.metric_label(metric.name)) for metric in comparison.metrics],
        "hints_better": _hints(trial, "better"),
        "hints_worse": _hints(trial, "worse"),
        "judged": trial.judged,
        "n_before": sum(not row.is_after and not row.is_left_out for row in trial.judged),
        "n_after": sum(row.is_after and not row.is_left_out for row in trial.judged),
        "waiting": ensure_results([row.flight for row in trial.judged if not row.is_analysed]),
        "axes": AXES,
        "decision": getattr(shown, "decision", None),
    }
    return render(request, "tunes/slip.html", context)


def _hints(trial: trials.Trial, verdict: str) -> list[str]:
    return [services.metric_label(m.name) for m in trial.comparison.metrics if m.verdict == verdict and not m.is_primary]


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
    try:
        decision = services.decide(shown, form.cleaned_data["outcome"], note=form.cleaned_data["note"])
    except CoreError as error:
        messages.error(request, str(error))
    else:
        messages.success(request, f"Slip {shown.number} is {decision.get_outcome_display()}.")
    return redirect(shown)


@require_POST
def slip_leave_out(request: HttpRequest, slip_id: int, flight_id: int) -> HttpResponse:
    shown = get_object_or_404(Slip.objects.select_related("tune"), pk=slip_id)
    flight = get_object_or_404(shown.tune.craft.flights, pk=flight_id)
    trials.leave_out(shown, flight, left_out=request.POST.get("left_out") == "1")
    return redirect(shown)
