"""The backup page: make a copy, fetch it, restore one."""

import tempfile
from pathlib import Path

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.middleware.csrf import rotate_token
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common import backup
from nembrit.web.common.jobs import start_job
from nembrit.web.common.models import Job
from nembrit.web.common.restore import restore_backup
from nembrit.web.common.sending import sent_file

_MOST_COPIED = 1024 * 1024


@require_http_methods(["GET", "POST"])
def backup_page(request: HttpRequest) -> HttpResponse:
    """All copies, and the one being made; a POST makes one."""
    if request.method == "POST":
        start_job("backup", 0, label="Backing up the workshop")
        return redirect("common:backup")
    job = Job.objects.about("backup", 0).first()
    context = {
        "backups": backup.backups(),
        "job": job if job and (job.is_unfinished or job.state == Job.State.FAILED) else None,
        "restored": request.GET.get("restored", ""),
        "error": "",
    }
    return render(request, "common/backup.html", context)


@require_safe
def backup_fetch(request: HttpRequest, name: str) -> HttpResponseBase:
    found = backup.backup_named(name)
    return sent_file(found.path.open("rb"), name=found.name)


@require_POST
def backup_remove(request: HttpRequest, name: str) -> HttpResponse:
    backup.backup_named(name).path.unlink()
    messages.success(request, f"{name} is removed.")
    return redirect("common:backup")


@require_POST
def backup_restore(request: HttpRequest) -> HttpResponse:
    """Restore a copy from the list, or one that is sent; the present state is copied first."""
    try:
        if not request.POST.get("sure"):
            raise backup.BackupError("tick “Replace the present workshop” first; nothing was changed")
        name, sent = request.POST.get("name", ""), request.FILES.get("file")
        if bool(name) == bool(sent):
            told = "choose a backup from the list or a file, not both" if name else "choose a backup from the list, or a file"
            raise backup.BackupError(f"{told}; nothing was changed")
        kept = _restore_sent(request) if sent else restore_backup(backup.backup_named(name).path)
    except CoreError as error:
        context = {"backups": backup.backups(), "error": str(error), "job": None, "restored": ""}
        return render(request, "common/backup.html", context, status=400)
    rotate_token(request)  # forms that stand open belong to the workshop of before: they are refused from now on
    return redirect(f"/backup/?restored={kept.name}")


def _restore_sent(request: HttpRequest) -> Path:
    sent = request.FILES.getlist("file")[0]
    with tempfile.TemporaryDirectory(dir=backup.folder()) as place:
        path = Path(place) / "sent.sqlite3"  # its own name may be longer than a disk takes
        with path.open("wb") as target:
            for chunk in sent.chunks(_MOST_COPIED):
                target.write(chunk)
        return restore_backup(path)
