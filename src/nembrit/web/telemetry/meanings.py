"""Meanings of a running source's columns: shown with the newest number, corrected, and handed to the recorder."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass

from nembrit.core.errors import InputError
from nembrit.core.records.roles import ROLE_CHOICES, spoken
from nembrit.core.records.units import scale_text
from nembrit.core.telemetry.meaning import LIVE_ONLY, LiveColumn, chosen
from nembrit.recorder import folder as files
from nembrit.web.hangar.models import Craft
from nembrit.web.telemetry import recordings
from nembrit.web.telemetry.models import Recording, Source

_SURE = 0.8
_CLOCKS = {1.0: "s", 1e-3: "ms", 1e-6: "µs"}
GROUPS: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    ("on the line", (("time", "sender’s clock"), *LIVE_ONLY.items())),
    *((group, tuple((role, spoken(role)) for role in roles)) for group, roles in ROLE_CHOICES),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnRow:
    """One column on the page."""

    name: str
    newest: str
    key: str
    scale: str
    is_doubtful: bool
    place: int


def rows_of(craft: Craft, typed: Mapping[str, str]) -> list[ColumnRow]:
    """Columns of the present recording, else of the newest one; `typed` is what a refused form held. In doubt first."""
    recording = recordings.present(craft) or Recording.objects.filter(craft=craft).first()
    if recording is None:
        return []
    newest: dict[str, object] = {}
    for _, row in recordings.newest_rows(recordings.folder_of(recording)):
        newest |= row
    found = [
        ColumnRow(
            name=one.name,
            newest=str(newest.get(one.name, "")),
            key=typed.get(f"key-{place}", one.key),
            scale=typed.get(f"scale-{place}", _scale(one)),
            is_doubtful=one.confidence < _SURE,
            place=place,
        )
        for place, one in enumerate(_known(craft, recording))
    ]
    return sorted(found, key=lambda row: (not row.is_doubtful, row.place))


def save(craft: Craft, form: Mapping[str, str]) -> None:
    """Keep what the tuner chose, with the source and for the recording under way. Raises InputError, and changes nothing then."""
    source = Source.objects.filter(craft=craft).first()
    recording = recordings.present(craft) or Recording.objects.filter(craft=craft).first()
    if source is None or recording is None:
        raise InputError("nothing received yet: start a recording first")
    made = []
    for place, one in enumerate(_known(craft, recording)):
        if form.get(f"name-{place}") != one.name:
            raise InputError("the source sends other columns now: check them again")
        key, scale = form.get(f"key-{place}", "").strip(), form.get(f"scale-{place}", "")
        try:
            made.append(one if (key, scale) == (one.key, _scale(one)) else chosen(one.name, key, scale))
        except InputError as error:
            raise InputError(f"“{one.name}”: {error}") from None
    keys = [one.key for one in made if one.key]
    double = next((key for key in keys if keys.count(key) > 1), None)
    if double is not None:
        raise InputError(f"two columns are {LIVE_ONLY.get(double) or spoken(double)}: leave one of them without a meaning")
    source.meanings = [asdict(one) for one in made]
    source.save(update_fields=("meanings",))
    if recording.ended_at is None:
        files.replace(recordings.folder_of(recording) / files.COLUMNS, {"columns": source.meanings})


def _known(craft: Craft, recording: Recording) -> list[LiveColumn]:
    """By name, so that places do not move while the recorder takes a correction over."""
    own = {one["name"]: LiveColumn(**one) for one in recordings.source_of(craft).meanings}
    seen = {one.name: one for one in recordings.columns(recordings.state(recording))}
    return [own.get(name, one) for name, one in sorted(seen.items())]


def _scale(one: LiveColumn) -> str:
    if one.key == "time":
        return _CLOCKS.get(one.factor, f"{one.factor:g}")
    if not one.key or not one.unit:
        return "" if one.factor == 1 else f"{one.factor:g}"
    return scale_text(one.key, one.factor, one.offset)
