"""Bringing logs in, flying in the simulator, looking at traces."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs import services, traces
from nembrit.web.logs.forms import AttachForm, SimulatorForm
from nembrit.web.logs.models import Log


@require_http_methods(["GET", "POST"])
def attach(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Attach one or several files; each becomes a flight of its own, or is refused with the reason."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = AttachForm(request.POST if request.method == "POST" else None, craft=craft)
    received: list[services.Received] = []
    files = request.FILES.getlist("files")
    if request.method == "POST" and form.is_valid():
        if not files:
            form.add_error(None, "Choose at least one file.")
        configuration = form.cleaned_data["configuration"]
        fields = {
            "configuration_id": configuration.pk if configuration else None,
            "card_key": form.cleaned_data["card_key"],
            "pack": form.cleaned_data["pack"],
        }
        received = [services.receive_file(craft, file.name, file.read(), flight_fields=fields) for file in files]
    template = "logs/_received_panel.html" if request.headers.get("HX-Request") else "logs/attach.html"
    return render(request, template, {"craft": craft, "form": form, "received": received})


@require_POST
def refused_remove(request: HttpRequest, log_id: int) -> HttpResponse:
    log = get_object_or_404(Log.objects.select_related("craft"), pk=log_id)
    services.remove_refused(log)
    messages.success(request, f"{log.file_name} is put away.")
    return redirect(log.craft)


@require_http_methods(["GET", "POST"])
def simulator(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Fly in the simulator: any card, any configuration."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = SimulatorForm(
        request.POST if request.method == "POST" else None, craft=craft, initial={"seed": services.default_seed(craft)}
    )
    if request.method == "POST" and form.is_valid():
        try:
            jobs = _fly(craft, form.cleaned_data)
        except CoreError as error:
            form.add_error(None, str(error))
        else:
            return redirect(f"{request.path}?jobs={','.join(str(job.pk) for job in jobs)}")
    wanted = [int(text) for text in request.GET.get("jobs", "").split(",") if text.isdigit()][:8]
    subjects = Job.objects.filter(pk__in=wanted, kind="simulate").order_by("pk").values_list("subject_id", flat=True)
    # the newest job about each flight: one that was cancelled may have been started again
    jobs = [job for subject in subjects if (job := Job.objects.about("simulate", subject).first())]
    logs = {
        log.pk: log for log in Log.objects.filter(pk__in=[job.subject_id for job in jobs]).prefetch_related("segments__flight")
    }
    context = {"craft": craft, "form": form, "flown": [(job, logs.get(job.subject_id)) for job in jobs]}
    return render(request, "logs/simulator.html", context, status=400 if form.is_bound else 200)


def _fly(craft: Craft, data: dict[str, object]) -> list[Job]:
    faults = {"as_built": None, "sound": {}, "loose_mount": {"loose_mount": 1.0}}[str(data["condition"])]
    logs = [
        services.request_simulation(
            craft,
            card_key=str(data["card"]),
            configuration=data["configuration"],
            seed=data["seed"] + number,
            wind_m_s=data["wind_m_s"],
            pack_charge_ratio=data["pack_charge_pct"] / 100,
            faults=faults,
        )
        for number in range(data["flights"])
    ]
    return [services.fly_in_simulator(log) for log in logs]


@require_safe
def trace_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Set-point against gyro per axis, throttle and motors over time."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    segment = flight.segments.select_related("log").first()
    context = {"craft": flight.craft, "flight": flight, "segment": segment}
    if segment:
        stream = segment.log.streams.order_by("-n_samples").first()
        context |= {"log": segment.log, "stream": stream, "panes": _panes({channel.role for channel in stream.channels.all()})}
    return render(request, "logs/trace.html", context)


def _panes(roles: set[str]) -> list[dict[str, object]]:
    """Ready-made panes of the first trace view, of what the log holds."""
    panes: list[dict[str, object]] = []
    for axis in ("roll", "pitch", "yaw"):
        lines = [(f"setpoint.{axis}", "setpoint"), (f"gyro.{axis}", "filtered"), (f"gyro_raw.{axis}", "raw")]
        found = [line for line in lines if line[0] in roles]
        if ("gyro." + axis) in roles:
            found = [line for line in found if line[1] != "raw"]
        if found:
            panes.append({"title": axis, "unit": "deg/s", "colour": axis, "lines": found})
    if "throttle" in roles:
        panes.append({"title": "throttle", "unit": "1", "colour": "ink", "lines": [("throttle", "plain")]})
    motors = sorted((role for role in roles if role.startswith("motor.")), key=lambda role: int(role.split(".")[1]))
    panes += [
        {"title": f"motor {role.split('.')[1]}", "unit": "1", "colour": "ink", "lines": [(role, "plain")], "small": True}
        for role in motors
    ]
    return panes


@require_safe
def trace_data(request: HttpRequest, log_id: int) -> HttpResponse:
    """Envelope of some channels over a span, as binary."""
    log = get_object_or_404(Log, pk=log_id, state=Log.State.READY)
    try:
        start_s, end_s = float(request.GET["from"]), float(request.GET["to"])
        n_columns = int(request.GET.get("columns", "1000"))
        roles = [role for role in request.GET.get("roles", "").split(",") if role][:40]
        if not start_s < end_s:
            raise ValueError
    except (KeyError, ValueError):
        return HttpResponse("from and to should be seconds, from before to", status=400, content_type="text/plain")
    try:
        content = traces.trace_bytes(log, roles, start_s=start_s, end_s=end_s, n_columns=n_columns)
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")
    return HttpResponse(content, content_type="application/octet-stream")
