"""A decided step in the craft's own settings: which values it changes, as lines to paste, and the way back."""

from dataclasses import dataclass

from nembrit.core.analysis.decision import Decision
from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.namemap import NameMap
from nembrit.core.setup.style import styled
from nembrit.core.tuning.translate import chain_values, gain_values, like
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, name_map, written_as

_TERMS = {"p": "P", "i": "I", "d": "D", "f": "feed-forward"}
_NAMELESS = "unknown which of your settings this changes: name them on the page “Setting names”"


@dataclass(frozen=True, slots=True, kw_only=True)
class InSettings:
    """New values by setting's name, and what the settings cannot say."""

    values: dict[str, str]
    notes: tuple[str, ...] = ()
    lines: str = ""
    way_back: str = ""
    in_ratios: str = ""  # where the settings cannot say it: “P on roll × 0.80”


def in_settings(craft: Craft, latest: Configuration, step: Decision) -> InSettings:
    """What a step changes of the latest settings."""
    settings, names = core_settings(latest), name_map(craft)
    present = {one.name: one.value for one in settings}
    group = step.group or ""
    if step.chains is not None:
        written = chain_values(settings, names, step.chains)
        notes = tuple(f"your settings have no “{one}”: this slip leaves it out" for one in written.missing)
        wanted = written.of_group(settings, names, group)
    else:
        notes = ()
        wanted = gain_values(settings, names, step.ratios).of_group(settings, names, group) | _idle(names, present, step)
    values = {name: value for name, value in wanted.items() if name in present and present[name] != value}
    style = written_as(latest)
    return InSettings(
        values=values,
        notes=notes if values else (*notes, _NAMELESS),
        lines=styled([Setting(name, value) for name, value in values.items()], style),
        way_back=styled([Setting(name, present[name]) for name in values], style),
        in_ratios="" if values else _in_ratios(step),
    )


def _in_ratios(step: Decision) -> str:
    """What to do to one’s own numbers, where it is not known which they are."""
    parts = [f"{_TERMS[term]} on {axis} × {ratio:.2f}" for axis, terms in step.ratios.items() for term, ratio in terms.items()]
    parts += [f"idle × {step.idle_ratio:.2f}"] if step.idle_ratio else []
    told = f": {', '.join(parts)}" if parts else ""
    return f"Unknown which of your settings this changes{told}"


def _idle(names: NameMap, present: dict[str, str], step: Decision) -> dict[str, str]:
    name = next((name for name, meaning in names.items() if meaning.key == "idle"), "")
    shown = number(present.get(name, ""))
    return {name: like(present[name], shown * step.idle_ratio)} if step.idle_ratio and shown else {}
