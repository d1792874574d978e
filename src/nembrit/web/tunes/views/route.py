"""Routes of a tune: choosing one, and being coached flight by flight."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import latest_act_finding
from nembrit.web.common.fields import row_number
from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import automatic, choosing_route, services, starting, stepping
from nembrit.web.tunes.forms import RouteForm, RunForm
from nembrit.web.tunes.models import Tune


@require_http_methods(["GET", "POST"])
def choose(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Four questions, and the route that fits."""
    craft = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(craft)
    form = RouteForm(request.POST if request.method == "POST" else request.GET or None, initial=choosing_route.known_of(craft))
    if request.method == "POST" and form.is_valid():
        return redirect(choosing_route.take(tune, str(request.POST.get("route", "")), fine=bool(form.cleaned_data["fine"])))
    answers = form.cleaned_data if form.is_bound and form.is_valid() else choosing_route.known_of(craft)
    context = {
        "craft": craft, "tune": tune, "form": form, "routes": choosing_route.routes_for(craft, answers),
        "is_asked": form.is_bound,
    }  # fmt: skip
    return render(request, "tunes/route_choose.html", context)


@require_http_methods(["GET", "POST"])
def step_up(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The next step of the route by feel; an answer keeps what was felt."""
    craft = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(craft)
    if tune.route != Tune.Route.STEP_UP:
        return redirect("tunes:route_choose", craft.pk)
    here = reverse("tunes:step_up", args=[craft.pk])
    if request.method == "POST":
        return redirect(once(request, lambda: _answered(request, tune, here)))
    try:
        coach, problem = stepping.coach_of(tune), ""
    except CoreError as error:
        coach, problem = None, str(error)
    context = {"craft": craft, "tune": tune, "coach": coach, "problem": problem, "finding": latest_act_finding(craft)}
    return render(request, "tunes/step_up.html", context)


def _answered(request: HttpRequest, tune: Tune, here: str) -> str:
    try:
        back = stepping.answer(tune, request.POST.get("sign", ""), note=request.POST.get("note", ""))
    except CoreError as error:
        messages.error(request, f"Nothing was saved: {error}.")
        return here
    messages.success(request, f"Saved. {back.title}: set it before the next flight." if back else "Saved.")
    return here


@require_POST
def step_write(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The step that is due, as a slip with its new settings."""
    craft = get_object_or_404(Craft, pk=craft_id)
    here = reverse("tunes:step_up", args=[craft.pk])
    return redirect(once(request, lambda: _written(request, services.tune_of(craft), here)))


def _written(request: HttpRequest, tune: Tune, here: str) -> str:
    try:
        slip = stepping.write_step(tune)
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    else:
        messages.success(request, f"Slip {slip.number} is written. Set the new value on the craft, then fly.")
    return here


@require_http_methods(["GET", "POST"])
def starting_values(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Values from a table, a similar craft or a file, as a diff and as one slip."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.MULTIROTOR)
    diff, problem = None, ""
    status = 200
    try:
        if request.method == "POST" and "write" in request.POST:
            return redirect(once(request, lambda: _start_written(request, craft)))
        if request.method == "POST":
            file = request.FILES.get("file")
            diff = starting.diff_of_file(craft, b"" if file is None else file.read())
        elif source := request.GET.get("source", ""):
            diff = starting.diff_of(craft, source)
    except CoreError as error:
        problem, status = str(error), 400 if request.method == "POST" else 200
        if "write" in request.POST:
            diff = _typed_again(request, craft)
    context = {
        "craft": craft, "sources": starting.sources_of(craft), "diff": diff, "problem": problem,
        "chosen": request.POST.getlist("use") or [row.name for row in (diff.rows if diff else ())],
        "reasons": request.POST,
    }  # fmt: skip
    return render(request, "tunes/starting.html", context, status=status)


def _start_written(request: HttpRequest, craft: Craft) -> str:
    values = {name: request.POST.get(f"value-{name}", "") for name in request.POST.getlist("use")}
    slip = starting.write(services.tune_of(craft), values, _label(request), request.POST.dict())
    messages.success(request, f"Slip {slip.number} is written. Set the values on the craft, then fly the first hover.")
    return slip.get_absolute_url()


def _typed_again(request: HttpRequest, craft: Craft) -> starting.Diff | None:
    """A refused form keeps what was typed."""
    typed = {name.removeprefix("value-"): value for name, value in request.POST.dict().items() if name.startswith("value-")}
    try:
        return starting.diff_typed(craft, _label(request), typed)
    except CoreError:
        return None


def _label(request: HttpRequest) -> str:
    return request.POST.get("source", "")[:60] or "elsewhere"


@require_safe
def starting_file(request: HttpRequest, craft_id: int) -> HttpResponse:
    """This craft's values as an open file, for others to start from."""
    craft = get_object_or_404(Craft, pk=craft_id)
    try:
        answer = JsonResponse(starting.document_of(craft), json_dumps_params={"indent": 1})
    except CoreError as error:
        messages.error(request, f"Nothing was exported: {error}.")
        return redirect("tunes:starting", craft.pk)
    answer["Content-Disposition"] = content_disposition_header(as_attachment=True, filename=f"{craft.name} values.json") or ""
    return answer


@require_http_methods(["GET", "POST"])
def automatic_tune(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Runs of the controller's own tune side by side; their middle becomes a slip."""
    craft = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(craft)
    here = reverse("tunes:automatic", args=[craft.pk])
    form = RunForm(request.POST if "text" in request.POST else None)
    if request.method == "POST" and (not form.is_bound or form.is_valid()):
        return redirect(once(request, lambda: _run_changed(request, tune, form, here)))
    try:
        runs, problem = automatic.runs_of(tune), ""
    except CoreError as error:
        runs, problem = None, str(error)
    context = {
        "craft": craft, "tune": tune, "form": form, "runs": runs, "problem": problem, "checklist": automatic.CHECKLIST,
        "is_plane": craft.kind == Craft.Kind.FIXED_WING, "newest": craft.flights.active().first(),
    }  # fmt: skip
    return render(request, "tunes/automatic.html", context, status=400 if form.is_bound else 200)


def _run_changed(request: HttpRequest, tune: Tune, form: RunForm, here: str) -> str:
    try:
        if form.is_bound:
            automatic.add_run(tune, form.cleaned_data["text"], form.cleaned_data["minutes"])
            messages.success(request, "The run is saved.")
        elif "remove" in request.POST:
            automatic.remove_run(tune, (row_number(request.POST["remove"]) or 0) - 1)
            messages.success(request, "The run is removed.")
        else:
            slip = automatic.write(tune, request.POST.dict())
            messages.success(request, f"Slip {slip.number} is written. Hover close and low first.")
            return slip.get_absolute_url()
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    return here
