"""Bringing logs in: attached to a craft or laid in the inbox; what their columns mean; profiles of headers."""

from datetime import UTC, datetime
from typing import BinaryIO, cast

from django.contrib import messages
from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import content_disposition_header, url_has_allowed_host_and_scheme
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError, InputError
from nembrit.web.common.fields import moment, row_number, whole
from nembrit.web.common.models import Job
from nembrit.web.common.told import tell_until_done
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.intake import arrivals, inbox, meanings, services
from nembrit.web.intake.forms import AttachForm
from nembrit.web.logs import places
from nembrit.web.logs.models import ImportProfile, Log

_MOST_DOCUMENT_BYTES = 1_000_000


def _log(log_id: int) -> Log:
    return get_object_or_404(Log.objects.select_related("craft", "profile"), pk=log_id)


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
    template = "intake/_received_panel.html" if request.headers.get("HX-Request") else "intake/attach.html"
    return render(request, template, {"craft": craft, "form": form, "received": received})


def _received(request: HttpRequest, craft: Craft | None, fields: dict[str, object]) -> list[services.Received]:
    found = []
    dates = request.POST.get("modified", "").split(",")
    for number, file in enumerate(request.FILES.getlist("files")):
        modified_at = _date(dates[number]) if number < len(dates) else None
        found += services.receive_file(
            craft, file.name or "unnamed", _content(file), flight_fields=fields, modified_at=modified_at
        )
    texts = [text for one in found if (text := _told(one))]
    if texts and request.headers.get("HX-Request"):  # the page is loaded anew as each job ends, of these files or of others
        tell_until_done(request, texts, [one.job for one in found if one.job])
    return found


def _content(file: "UploadedFile[bytes]") -> BinaryIO:
    if file.file is None:
        raise InputError(f"{file.name} came without content")
    return cast(BinaryIO, file.file)


def _told(one: services.Received) -> str:
    """Why a file did not come in, in a sentence; "" for one that did."""
    if one.refusal:
        return f"{one.file_name} was rejected. {one.refusal[:1].upper()}{one.refusal[1:]}."
    return f"{one.file_name} exists already. Nothing was added." if one.known_flight or one.known_log else ""


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
    messages.success(request, f"{log.file_name} is dismissed.")
    return redirect(log.craft or "intake:inbox")


@require_http_methods(["GET", "POST"])
def inbox_page(request: HttpRequest) -> HttpResponse:
    """Logs that belong to no flight yet; files dropped here come in without a craft."""
    received = []
    if request.method == "POST":
        received = _received(request, None, {})
        if request.headers.get("HX-Request"):
            return render(request, "intake/_received_panel.html", {"received": received})
    crafts = Craft.objects.active()
    context = {
        "waiting": inbox.waiting(),
        "received": received,
        "crafts": crafts,
        "flights": Flight.objects.active().select_related("craft").order_by("-flown_at", "-id")[:60],
        "archived": Log.objects.exclude(archived_at=None).order_by("-archived_at")[:30],
    }
    return render(request, "intake/inbox.html", context)


@require_POST
def log_move(request: HttpRequest, log_id: int) -> HttpResponse:
    """Put a log with a flight (``flight-12``) or make it a new flight of a craft (``craft-3``)."""
    log = get_object_or_404(Log, pk=log_id)
    kind, _, number = request.POST.get("to", "").partition("-")
    if (wanted := row_number(number)) is None or kind not in ("flight", "craft"):
        messages.error(request, "Choose a flight or a craft for the log. Nothing was moved.")
        return redirect(_back(request) or log.get_absolute_url())
    try:
        if kind == "flight":
            segment = places.move_to(log, get_object_or_404(Flight, pk=wanted))
        else:
            segment = places.new_flight_of(log, get_object_or_404(Craft, pk=wanted))
    except CoreError as error:
        messages.error(request, f"{log.file_name} stays where it is: {error}.")
        return redirect(log)
    messages.success(request, f"{log.file_name} belongs to {segment.flight} of {segment.flight.craft} now.")
    return redirect(log)


def _back(request: HttpRequest) -> str:
    """Where the form wants to go back to, if that is a page of this workshop."""
    address = request.POST.get("back", "")
    return address if address.startswith("/") and url_has_allowed_host_and_scheme(address, allowed_hosts=None) else ""


@require_POST
def log_archive(request: HttpRequest, log_id: int) -> HttpResponse:
    log = get_object_or_404(Log, pk=log_id)
    places.set_log_archived(log, archived=request.POST.get("archived") == "1")
    messages.success(request, f"{log.file_name} is {'archived; nothing is lost' if log.archived_at else 'back'}.")
    return redirect("intake:inbox")


@require_http_methods(["GET", "POST"])
def meanings_page(request: HttpRequest, log_id: int) -> HttpResponse:
    """Every column with a miniature picture, its numbers and what it is taken for; corrected by choosing."""
    log = _log(log_id)
    job = Job.objects.about("import_log", log.pk).first()
    error, status = "", 200
    if request.method == "POST":
        try:
            meanings.choose(log, _choice(request))
        except CoreError as refused:
            error, status = str(refused), 409 if isinstance(refused, meanings.OlderMeanings) else 400
        else:
            messages.success(request, f"The meanings of {log.file_name} are saved. The log is being read again.")
            return redirect(log)
    context = {
        "craft": log.craft,
        "log": log,
        "job": job,
        "streams": [(stream, meanings.grouped(rows)) for stream, rows in meanings.rows_of(log, request.POST)]
        if log.applied_mapping
        else [],
        "clocks": meanings.clocks_of(log, request.POST),
        "roles": meanings.role_choices(),
        "units": meanings.unit_choices(),
        "modes": meanings.modes_of(log, request.POST),
        "mode_names": meanings.MODE_NAMES,
        "seen": meanings.seen_mark(log),
        "error": error,
    }
    return render(request, "intake/meanings.html", context, status=status)


@require_safe
def meanings_export(request: HttpRequest, log_id: int) -> HttpResponse:
    """The meanings of a log as a file that the command line and other workshops take."""
    log = _log(log_id)
    try:
        document = meanings.document_of(log)
    except CoreError as error:
        messages.error(request, f"Nothing was exported: {error}.")
        return redirect("intake:meanings", log_id)
    answer = JsonResponse(document, json_dumps_params={"indent": 1, "ensure_ascii": False})
    answer["Content-Disposition"] = content_disposition_header(as_attachment=True, filename=f"{log.file_name}.json") or ""
    return answer


@require_POST
def meanings_import(request: HttpRequest, log_id: int) -> HttpResponse:
    """Take meanings from such a file, and read the kept log again."""
    log = _log(log_id)
    file = request.FILES.get("document")
    try:
        if file is None:
            raise InputError("choose a file of meanings first")
        if (file.size or 0) > _MOST_DOCUMENT_BYTES:
            raise InputError("this file is too large for meanings (at most 1 MB)")
        meanings.import_document(log, file.read())
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
        return redirect("intake:meanings", log_id)
    messages.success(request, f"The meanings of {log.file_name} were imported. The log is being read again.")
    return redirect(log)


@require_POST
def meanings_fellows(request: HttpRequest, log_id: int) -> HttpResponse:
    """What a correction just made says about columns that are named alike: their fields, filled in anew."""
    context: dict[str, object] = {"mode_names": meanings.MODE_NAMES}
    log, field = _log(log_id), request.GET.get("field", "")
    try:
        choice = _choice(request)
        context["modes"] = meanings.modes_chosen(log, field, choice)
        context["followers"] = meanings.following(log, field, choice)
    except (CoreError, ValueError) as refused:
        context["error"] = str(refused)
    return render(request, "intake/_fellows.html", context)


def _choice(request: HttpRequest) -> meanings.Choice:
    given = {key: str(text) for key, text in request.POST.items()}
    rates_hz = {}
    for key, text in given.items():
        if key.startswith("rate-") and text.strip():
            rates_hz[whole(key.removeprefix("rate-"), "a table")] = meanings.rate_hz(text)
    return meanings.Choice(
        roles={key.removeprefix("role-"): meanings.role_of(text) for key, text in given.items() if key.startswith("role-")},
        scales={key.removeprefix("scale-"): text for key, text in given.items() if key.startswith("scale-")},
        rates_hz=rates_hz,
        modes={key.removeprefix("mode-"): text.strip().lower()[:40] for key, text in given.items() if key.startswith("mode-")},
        typed=frozenset(key.removeprefix("typed-") for key in given if key.startswith("typed-")),
        seen=given.get("seen", ""),
        profile_name=given.get("profile_name", "").strip() if given.get("remember") else "",
    )


@require_POST
def log_reread(request: HttpRequest, log_id: int) -> HttpResponse:
    """Read the file again with what the recogniser knows now."""
    log = _log(log_id)
    try:
        meanings.read_again(log)
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    return redirect(log)


@require_POST
def upload_remove(request: HttpRequest, log_id: int) -> HttpResponse:
    """Give back the space of the kept file; the samples stay, the meanings can no longer be changed."""
    log = _log(log_id)
    size_bytes = arrivals.remove_upload(log)
    messages.success(
        request, f"The original file of {log.file_name} is removed, {size_bytes / 1e6:.1f} MB freed. Its samples stay."
    )
    return redirect(log)


@require_http_methods(["GET", "POST"])
def profiles(request: HttpRequest) -> HttpResponse:
    """Kept meanings of headers; one that is forgotten leaves the logs it was used for as they are."""
    if request.method == "POST":
        profile = get_object_or_404(ImportProfile, pk=row_number(request.POST.get("profile")))
        profile.delete()
        messages.success(request, f"The profile “{profile.name}” is deleted. Logs read with it do not change.")
        return redirect("intake:profiles")
    return render(request, "intake/profiles.html", {"profiles": ImportProfile.objects.prefetch_related("logs")})
