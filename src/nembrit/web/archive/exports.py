"""Archives as files in the workshop's folder: written by a job, listed, sent, removed."""

import re
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.utils.text import slugify

from nembrit.core.errors import InputError
from nembrit.core.progress import Progress
from nembrit.web.archive.writing import require_settled, write_archive
from nembrit.web.common.jobs import job_handler, start_job
from nembrit.web.common.models import Job
from nembrit.web.hangar.models import Craft

_WITH, _WITHOUT = "export", "export_without_places"
KINDS = (_WITH, _WITHOUT)
_NAME = re.compile(r"nembrit-[a-z0-9_-]+-\d{8}-\d{6}\.zip")


@dataclass(frozen=True, slots=True, kw_only=True)
class Export:
    """One archive that lies ready."""

    name: str
    n_bytes: int
    made_at: datetime


def folder() -> Path:
    path = Path(settings.DATA_FOLDER) / "exports"
    path.mkdir(exist_ok=True, mode=0o700)
    return path


def begin(craft: Craft | None, *, with_places: bool) -> Job:
    """Write an archive beside the other work. Raises InputError for what cannot be exported now."""
    require_settled(craft)
    label = f"Exporting {craft.name if craft else 'the whole workshop'}"
    return start_job(_WITH if with_places else _WITHOUT, craft.pk if craft else 0, label=label)


def exports() -> list[Export]:
    """The newest first."""
    found = [
        Export(name=path.name, n_bytes=path.stat().st_size, made_at=datetime.fromtimestamp(path.stat().st_mtime, UTC))
        for path in folder().glob("nembrit-*.zip")
    ]
    return sorted(found, key=lambda one: one.made_at, reverse=True)


def path_of(name: str) -> Path:
    """Raises InputError for a name that no export has."""
    path = folder() / name
    if not _NAME.fullmatch(name) or not path.is_file():
        raise InputError("that export no longer exists")
    return path


@job_handler(_WITH, owner_only=True)
def _export(craft_id: int, progress: Progress) -> None:
    _write(craft_id, progress, with_places=True)


@job_handler(_WITHOUT, owner_only=True)
def _export_without_places(craft_id: int, progress: Progress) -> None:
    _write(craft_id, progress, with_places=False)


def _write(craft_id: int, progress: Progress, *, with_places: bool) -> None:
    craft = Craft.objects.filter(pk=craft_id).first() if craft_id else None
    if craft_id and craft is None:
        raise InputError("that craft no longer exists")
    words = (slugify(craft.name) or "craft") if craft else "workshop"
    path = folder() / f"nembrit-{words}-{datetime.now(UTC):%Y%m%d-%H%M%S}.zip"
    partial = path.with_suffix(".partial")
    try:
        with partial.open("wb") as file:
            write_archive(file, craft, with_places=with_places, progress=progress)
        partial.rename(path)
    finally:
        partial.unlink(missing_ok=True)
