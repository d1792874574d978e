"""The route “automatic tune”: runs read back from the controller, what lies between them, and what margins say of the result."""

from collections.abc import Mapping
from dataclasses import dataclass

from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.routes.automatic import CHECKLIST, GainSpread, against_margin, axes_to_repeat, spreads
from nembrit.core.setup.configuration import number
from nembrit.core.setup.pasted import parse_settings
from nembrit.core.tuning.translate import like
from nembrit.core.types import AXES
from nembrit.web.bench.results import by_flight
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map
from nembrit.web.tunes import services
from nembrit.web.tunes.models import Slip, Tune

__all__ = ["CHECKLIST"]
_MOST_RUNS = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Runs:
    """All runs of a tune together."""

    n_runs: int
    minutes: list[str]
    gains: tuple[GainSpread, ...]
    repeat: tuple[str, ...]
    margins: list[str]
    headline: str
    can_write: bool


def runs_of(tune: Tune) -> Runs:
    """What the runs say. Raises InputError for a craft without settings or named gains."""
    latest = _latest(tune)
    runs = tune.coached.get("runs", [])
    found = spreads(tune.coached.get("before") or _numbers(latest), [one["values"] for one in runs], _axes(latest))
    repeat = axes_to_repeat(found)
    present = _numbers(latest)
    return Runs(
        n_runs=len(runs), minutes=[f"{one['minutes']:g} min" if one.get("minutes") else "time unknown" for one in runs],
        gains=found, repeat=repeat, margins=_margins(latest), headline=_headline(len(runs), found, repeat),
        can_write=bool(found) and any(present.get(one.name) != one.middle for one in found) and services.open_slip(tune) is None,
    )  # fmt: skip


def add_run(tune: Tune, text: str, minutes: float | None) -> None:
    """Keep what the controller had after a run. Raises InputError for lines without any gain, or a ninth run."""
    latest = _latest(tune)
    runs = tune.coached.get("runs", [])
    if len(runs) >= _MOST_RUNS:
        raise InputError(f"{_MOST_RUNS} runs are enough: remove the oldest first")
    axes = _axes(latest)
    values = {one.name: value for one in parse_settings(text) if one.name in axes and (value := number(one.value)) is not None}
    if not values:
        raise InputError("none of these lines is a gain of this craft: paste the settings as the controller shows them")
    run = {"at": timezone.now().isoformat(), "values": values, "minutes": minutes}
    before = tune.coached.get("before") or _numbers(latest)
    tune.coached = {**tune.coached, "before": before, "runs": [*runs, run]}
    tune.save(update_fields=("coached",))


def remove_run(tune: Tune, place: int) -> None:
    """Forget one run. Raises InputError where it is gone already."""
    runs = list(tune.coached.get("runs", []))
    if not 0 <= place < len(runs):
        raise InputError("that run is gone already")
    del runs[place]
    tune.coached = {**tune.coached, "runs": runs}
    tune.save(update_fields=("coached",))


def write(tune: Tune, reasons: Mapping[str, str]) -> Slip:
    """The middle of the runs as one slip, verified like any other. Raises InputError where nothing differs, or at the gate."""
    latest, found = _latest(tune), runs_of(tune)
    present = {one.name: one.value for one in core_settings(latest)}
    values = {one.name: like(present[one.name], one.middle) for one in found.gains if one.name in present}
    text = services.SlipText(
        title=f"Automatic tune: the middle of {found.n_runs} run{'' if found.n_runs == 1 else 's'}", why=found.headline,
        expect="It follows more closely on every axis.", primary_metric="tracking_error.roll", direction="lower",
        card_key="response", risk="A slow twitch that grows in hover: land, and check weight and balance first.",
    )  # fmt: skip
    return services.make_slip(tune, group="start", text=services.with_reasons(text, reasons), values=values)


def _headline(n_runs: int, found: tuple[GainSpread, ...], repeat: tuple[str, ...]) -> str:
    if not n_runs:
        return "Fly the automatic tune, then paste what it found"
    if not found:
        return "The runs changed no gain: was the result saved before disarming?"
    if n_runs == 1:
        return "One run: repeat it before you trust it"
    if repeat:
        return f"{n_runs} runs differ on {' and '.join(repeat)}: repeat {'it' if len(repeat) == 1 else 'them'} on a calm day"
    return f"{n_runs} runs agree: fly the middle, then verify it"


def _margins(latest: Configuration) -> list[str]:
    """What the newest flight with the present settings says of each axis."""
    flights = list(latest.craft.flights.active().filter(configuration=latest)[:4])
    loop = next((own.loop for _, own in by_flight(flights, "loop") if own is not None and own.loop is not None), None)
    if loop is None:
        return []
    return [told for axis in AXES if axis in loop.axes and (told := against_margin(axis, loop.axes[axis].sensitivity_peak))]


def _axes(latest: Configuration) -> Mapping[str, str]:
    names = name_map(latest.craft)
    found = {}
    for one in core_settings(latest):
        meaning = names.get(one.name)
        if meaning is not None and meaning.key.startswith("gain.rate."):
            found[one.name] = meaning.key.split(".")[2]
    if not found:
        raise InputError("none of the settings is named as a gain: name them first")
    return found


def _numbers(latest: Configuration) -> dict[str, float]:
    return {one.name: value for one in core_settings(latest) if (value := number(one.value)) is not None}


def _latest(tune: Tune) -> Configuration:
    latest = latest_configuration(tune.craft)
    if latest is None:
        raise InputError("save the present settings first: runs are shown beside them")
    return latest
