"""Blind comparisons: asked, flown turn by turn, rated, revealed, decided."""

from collections.abc import Callable
from typing import Any, BinaryIO, cast

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import ensure_results
from nembrit.web.common.fields import row_number
from nembrit.web.common.jobs import latest_jobs
from nembrit.web.common.once import once
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Craft
from nembrit.web.intake import services as intake
from nembrit.web.logs.models import Log
from nembrit.web.tunes import experiments, history, services
from nembrit.web.tunes.experiment_forms import ExperimentForm, RateForm
from nembrit.web.tunes.models import Experiment, Turn


@require_safe
def experiment_list(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    context = {"craft": craft, "experiments": craft.experiments.all(), "track": history.track(services.tune_of(craft))}
    return render(request, "tunes/experiments.html", context)


@require_http_methods(["GET", "POST"])
def experiment_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    """New comparison: arms, card, order, repetitions and what judges are fixed before flying."""
    craft = get_object_or_404(Craft, pk=craft_id)
    initial = {"card_key": "response"}
    form = ExperimentForm(request.POST if request.method == "POST" else None, craft=craft, initial=initial)
    if request.method == "POST" and form.is_valid():
        try:
            return redirect(once(request, lambda: experiments.begin(craft, form.wanted()).get_absolute_url()))
        except CoreError as error:
            form.add_error(None, str(error))
    context = {
        "craft": craft,
        "form": form,
        "least": experiments.least_flights(),
        "track": history.track(services.tune_of(craft)),
    }
    return render(request, "tunes/experiment_new.html", context, status=400 if form.is_bound else 200)


def _shown(experiment_id: int) -> Experiment:
    return get_object_or_404(Experiment.objects.select_related("craft", "kept_arm"), pk=experiment_id)


@require_safe
def experiment(request: HttpRequest, experiment_id: int) -> HttpResponse:
    """The next turn while it is flown; what it said when it is revealed."""
    return _page(request, _shown(experiment_id))


def _page(request: HttpRequest, shown: Experiment, rate_form: RateForm | None = None) -> HttpResponse:
    experiments.flights_came(shown)
    turns = list(shown.turns.select_related("flight", "guess"))
    coming = list(Log.objects.filter(craft=shown.craft, segments=None, archived_at=None).exclude(state=Log.State.READY))
    own = [log for log in coming if log.request.get("flight", {}).get("blind_code") in {turn.code for turn in turns}]
    opened = experiments.shows_arms(shown)
    arms = list(shown.arms.all())
    order = experiments.order_of(shown) if opened else []
    to_rate = next(iter(experiments.waiting_for_rating(shown)), None)
    flights = [turn.flight for turn in turns if turn.flight]
    context: dict[str, Any] = {
        "craft": shown.craft, "experiment": shown, "arms": arms, "card": card_of(shown.card_key), "opened": opened,
        "turns": [(turn, arms[order[turn.position]] if opened else None) for turn in turns],
        "next": None if to_rate or own else experiments.next_turn(shown), "to_rate": to_rate, "coming": own,
        "rate_form": rate_form or RateForm(experiment=shown), "judged_by": experiments.judged_by(shown),
        "design": dict(experiments.DESIGN_CHOICES)[shown.design], "n_flown": len(flights),
        "jobs": latest_jobs(("import_log", "simulate"), [log.pk for log in own]),
        "waiting": ensure_results(flights) if opened and shown.state == Experiment.State.REVEALED else [],
        "verdict": experiments.verdict_of(shown) if shown.state == Experiment.State.REVEALED else None,
        "track": history.track(services.tune_of(shown.craft)),
    }  # fmt: skip
    context["verdicts"] = [(arms[one.arm], one) for one in context["verdict"].arms] if context["verdict"] else []
    context["next_arm"] = experiments.arm_of(context["next"]) if opened and context["next"] else None
    bad = rate_form is not None and rate_form.is_bound
    return render(request, "tunes/experiment.html", context, status=400 if bad else 200)


def _turn(experiment_id: int, turn_id: int) -> Turn:
    return get_object_or_404(Turn.objects.select_related("experiment__craft"), pk=turn_id, experiment=experiment_id)


@require_safe
def turn_settings(request: HttpRequest, experiment_id: int, turn_id: int) -> HttpResponse:
    """The settings of a turn under its code, as a file to load unread."""
    turn = _turn(experiment_id, turn_id)
    try:
        content = experiments.settings_file(turn)
    except CoreError as error:
        messages.error(request, f"{str(error).capitalize()}.")
        return redirect(turn.experiment)
    headers = {"Content-Disposition": f'attachment; filename="{turn.code}.txt"'}
    return HttpResponse(content, content_type="text/plain; charset=utf-8", headers=headers)


@require_POST
def turn_fly(request: HttpRequest, experiment_id: int, turn_id: int) -> HttpResponse:
    """Fly this turn in the simulator."""
    turn = _turn(experiment_id, turn_id)
    return _told(request, turn.experiment, lambda: once(request, lambda: str(experiments.fly_turn(turn).pk)), "It has started.")


@require_POST
def turn_log(request: HttpRequest, experiment_id: int, turn_id: int) -> HttpResponse:
    """Attach the log of this turn; of a blind one it stays sealed."""
    turn = _turn(experiment_id, turn_id)
    file = request.FILES.get("files")
    if file is None or file.file is None:
        messages.error(request, "Choose the log of this flight. Nothing was attached.")
        return redirect(turn.experiment)
    fields = experiments.flight_fields(turn)
    name = experiments.log_name(turn, file.name or "")
    for one in intake.receive_file(turn.experiment.craft, name, cast(BinaryIO, file.file), flight_fields=fields):
        if one.refusal:
            messages.error(request, f"{file.name} was rejected. {one.refusal[:1].upper()}{one.refusal[1:]}.")
        elif one.known_flight or one.known_log:
            messages.error(request, f"{file.name} exists already: each flight needs its own log. Nothing was added.")
    return redirect(turn.experiment)


@require_POST
def turn_rate(request: HttpRequest, experiment_id: int, turn_id: int) -> HttpResponse:
    turn = _turn(experiment_id, turn_id)
    form = RateForm(request.POST, experiment=turn.experiment)
    if not form.is_valid():
        return _page(request, _shown(experiment_id), form)
    return _told(request, turn.experiment, lambda: experiments.rate(turn, **form.cleaned_data), f"{turn.code} is rated.")


@require_POST
def turn_skip(request: HttpRequest, experiment_id: int, turn_id: int) -> HttpResponse:
    turn = _turn(experiment_id, turn_id)
    why = request.POST.get("why", "")
    return _told(
        request, turn.experiment, lambda: experiments.skip(turn, why=why), f"{turn.code} is left out; the comparison continues."
    )


@require_POST
def experiment_end(request: HttpRequest, experiment_id: int) -> HttpResponse:
    """Reveal the result, or give the question up."""
    shown = _shown(experiment_id)
    if request.POST.get("end") == "reveal":
        return _told(request, shown, lambda: experiments.reveal(shown), "Revealed.")
    why = request.POST.get("why", "")
    return _told(
        request,
        shown,
        lambda: experiments.give_up(shown, why=why),
        "Comparison cancelled. Its flights are ordinary flights again.",
    )


@require_POST
def experiment_keep(request: HttpRequest, experiment_id: int) -> HttpResponse:
    shown = _shown(experiment_id)
    arm = get_object_or_404(shown.arms, position=row_number(request.POST.get("arm", "")) or 0)
    note = request.POST.get("note", "")
    return _told(
        request, shown, lambda: experiments.keep_arm(shown, arm, note=note), f"{arm.name} is kept. Put it on the craft, too."
    )


def _told(request: HttpRequest, shown: Experiment, do: Callable[[], Any], words: str) -> HttpResponse:
    try:
        do()
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    else:
        messages.success(request, words)
    return redirect(shown)
