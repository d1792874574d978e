"""The simulator's page: the stand-in for going out to fly."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods

from nembrit.core.errors import CoreError
from nembrit.web.common.fields import row_numbers
from nembrit.web.common.models import Job
from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Log
from nembrit.web.simulator import services
from nembrit.web.simulator.conditions import CONDITIONS, PLANE_CONDITIONS
from nembrit.web.simulator.forms import SimulatorForm


@require_http_methods(["GET", "POST"])
def simulator(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Fly in the simulator: any card, any configuration."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = SimulatorForm(
        request.POST if request.method == "POST" else None, craft=craft, initial={"seed": services.default_seed(craft)}
    )
    if request.method == "POST" and form.is_valid():
        try:
            return redirect(once(request, lambda: _flying(request, craft, form.cleaned_data)))
        except CoreError as error:
            form.add_error(None, str(error))
    wanted = row_numbers(request.GET.get("jobs", "").split(","), most=8)
    subjects = Job.objects.filter(pk__in=wanted, kind="simulate").order_by("pk").values_list("subject_id", flat=True)
    # the newest job about each flight: one that was cancelled may have been started again
    jobs = [job for subject in subjects if (job := Job.objects.about("simulate", subject).first())]
    logs = {
        log.pk: log for log in Log.objects.filter(pk__in=[job.subject_id for job in jobs]).prefetch_related("segments__flight")
    }
    flown = [(job, logs.get(job.subject_id)) for job in jobs]
    context = {
        "craft": craft, "form": form, "flown": flown, "assumed": services.assumptions_about(craft),
        "last": services.last_flown(craft),
    }  # fmt: skip
    return render(request, "simulator/simulator.html", context, status=400 if form.is_bound else 200)


def _flying(request: HttpRequest, craft: Craft, data: dict[str, Any]) -> str:
    jobs = _fly(craft, data)
    return f"{request.path}?jobs={','.join(str(job.pk) for job in jobs)}"


def _fly(craft: Craft, data: dict[str, Any]) -> list[Job]:
    condition = str(data["condition"])
    known = PLANE_CONDITIONS if craft.kind == Craft.Kind.FIXED_WING else CONDITIONS
    faults = known[condition][1] if condition in known else None  # None: as it is built
    logs = [
        services.request_simulation(
            craft,
            card_key=str(data["card"]),
            configuration=data["configuration"],
            seed=data["seed"] + number,
            wind_m_s=data["wind_m_s"],
            pack_charge_ratio=data["pack_charge_pct"] / 100,
            faults=faults,
            second_board=bool(data.get("second_board")),
        )
        for number in range(data["flights"])
    ]
    return [services.fly_in_simulator(log) for log in logs]
