"""Bringing logs in: attached to a craft, laid in the inbox, or flown in the simulator."""

from datetime import UTC, datetime

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from nembrit.core.errors import CoreError, InputError
from nembrit.web.common.fields import moment, row_number, row_numbers, whole
from nembrit.web.common.models import Job
from nembrit.web.common.told import tell_until_done
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs import desk, inbox, services
from nembrit.web.logs import simulator as flying
from nembrit.web.logs.conditions import CONDITIONS
from nembrit.web.logs.forms import AttachForm, SimulatorForm
from nembrit.web.logs.models import Log


@require_http_methods(["GET", "POST"])
def attach(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Attach one or several files; each becomes a flight, waits in the inbox, or is refused with the reason."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = AttachForm(request.POST if request.method == "POST" else None, craft=craft)
    received: list[services.Received] = []
    if request.method == "POST" and form.is_valid():
        if not request.FILES.getlist("files"):
            form.add_error(None, "Choose at least one file.")
        configuration = form.cleaned_data["configuration"]
        fields = {
            "configuration_id": configuration.pk if configuration else None,
            "card_key": form.cleaned_data["card_key"],
            "pack": form.cleaned_data["pack"],
        }
        received = _received(request, craft, fields)
    template = "logs/_received_panel.html" if request.headers.get("HX-Request") else "logs/attach.html"
    return render(request, template, {"craft": craft, "form": form, "received": received})


def _received(request: HttpRequest, craft: Craft | None, fields: dict[str, object]) -> list[services.Received]:
    found = []
    dates = request.POST.get("modified", "").split(",")
    for number, file in enumerate(request.FILES.getlist("files")):
        modified_at = _date(dates[number]) if number < len(dates) else None
        found += services.receive_file(craft, file.name, file.file, flight_fields=fields, modified_at=modified_at)
    texts = [text for one in found if (text := _told(one))]
    if texts and request.headers.get("HX-Request"):  # the page is loaded anew as each job ends, of these files or of others
        tell_until_done(request, texts, [one.job for one in found if one.job])
    return found


def _told(one: services.Received) -> str:
    """Why a file did not come in, in a sentence; "" for one that did."""
    if one.refusal:
        return f"{one.file_name} was not taken. {one.refusal[:1].upper()}{one.refusal[1:]}."
    return f"{one.file_name} is here already. Nothing was added." if one.known_flight or one.known_log else ""


def _date(milliseconds: str) -> datetime | None:
    """The file's own date as the browser tells it."""
    try:
        return moment(datetime.fromtimestamp(whole(milliseconds, "a date", high=10**14) / 1000, UTC))
    except (InputError, OverflowError, ValueError):  # a date that cannot be is no date
        return None


@require_POST
def refused_remove(request: HttpRequest, log_id: int) -> HttpResponse:
    log = get_object_or_404(Log.objects.select_related("craft"), pk=log_id)
    services.remove_refused(log)
    messages.success(request, f"{log.file_name} is put away.")
    return redirect(log.craft or "logs:inbox")


@require_http_methods(["GET", "POST"])
def inbox_page(request: HttpRequest) -> HttpResponse:
    """Logs that belong to no flight yet; files dropped here come in without a craft."""
    received = []
    if request.method == "POST":
        received = _received(request, None, {})
        if request.headers.get("HX-Request"):
            return render(request, "logs/_received_panel.html", {"received": received})
    crafts = Craft.objects.active()
    context = {
        "waiting": inbox.waiting(),
        "received": received,
        "crafts": crafts,
        "flights": Flight.objects.active().select_related("craft").order_by("-flown_at", "-id")[:60],
        "archived": Log.objects.exclude(archived_at=None).order_by("-archived_at")[:30],
    }
    return render(request, "logs/inbox.html", context)


@require_POST
def log_move(request: HttpRequest, log_id: int) -> HttpResponse:
    """Put a log with a flight (``flight-12``) or make it a new flight of a craft (``craft-3``)."""
    log = get_object_or_404(Log, pk=log_id)
    kind, _, number = request.POST.get("to", "").partition("-")
    if (wanted := row_number(number)) is None or kind not in ("flight", "craft"):
        messages.error(request, "Choose a flight or a craft for the log. Nothing was moved.")
        return redirect(request.POST.get("back") or log)
    try:
        if kind == "flight":
            segment = desk.move_to(log, get_object_or_404(Flight, pk=wanted))
        else:
            segment = desk.new_flight_of(log, get_object_or_404(Craft, pk=wanted))
    except CoreError as error:
        messages.error(request, f"{log.file_name} stays where it is: {error}.")
        return redirect(log)
    messages.success(request, f"{log.file_name} belongs to {segment.flight} of {segment.flight.craft} now.")
    return redirect(log)


@require_POST
def log_archive(request: HttpRequest, log_id: int) -> HttpResponse:
    log = get_object_or_404(Log, pk=log_id)
    desk.set_log_archived(log, archived=request.POST.get("archived") == "1")
    messages.success(request, f"{log.file_name} is {'archived; nothing of it is lost' if log.archived_at else 'back'}.")
    return redirect("logs:inbox")


@require_http_methods(["GET", "POST"])
def simulator(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Fly in the simulator: any card, any configuration."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = SimulatorForm(
        request.POST if request.method == "POST" else None, craft=craft, initial={"seed": flying.default_seed(craft)}
    )
    if request.method == "POST" and form.is_valid():
        try:
            jobs = _fly(craft, form.cleaned_data)
        except CoreError as error:
            form.add_error(None, str(error))
        else:
            return redirect(f"{request.path}?jobs={','.join(str(job.pk) for job in jobs)}")
    wanted = row_numbers(request.GET.get("jobs", "").split(","), most=8)
    subjects = Job.objects.filter(pk__in=wanted, kind="simulate").order_by("pk").values_list("subject_id", flat=True)
    # the newest job about each flight: one that was cancelled may have been started again
    jobs = [job for subject in subjects if (job := Job.objects.about("simulate", subject).first())]
    logs = {
        log.pk: log for log in Log.objects.filter(pk__in=[job.subject_id for job in jobs]).prefetch_related("segments__flight")
    }
    context = {"craft": craft, "form": form, "flown": [(job, logs.get(job.subject_id)) for job in jobs]}
    return render(request, "logs/simulator.html", context, status=400 if form.is_bound else 200)


def _fly(craft: Craft, data: dict[str, object]) -> list[Job]:
    condition = str(data["condition"])
    faults = CONDITIONS[condition][1] if condition in CONDITIONS else None  # None: as it is built
    logs = [
        flying.request_simulation(
            craft,
            card_key=str(data["card"]),
            configuration=data["configuration"],
            seed=data["seed"] + number,
            wind_m_s=data["wind_m_s"],
            pack_charge_ratio=data["pack_charge_pct"] / 100,
            faults=faults,
            second_board=bool(data["second_board"]),
        )
        for number in range(data["flights"])
    ]
    return [flying.fly_in_simulator(log) for log in logs]
