"""What the pages of telemetry show."""

import time
from collections.abc import Mapping
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.telemetry.alarms import KINDS
from nembrit.core.telemetry.lines import LineReader
from nembrit.core.telemetry.meaning import columns_of
from nembrit.core.telemetry.tally import Tally
from nembrit.recorder.sources import SourceAddress, SourceLost, open_source
from nembrit.web.common.fields import row_number
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import latest_configuration
from nembrit.web.intake.services import receive_file
from nembrit.web.telemetry import link, recordings, standin
from nembrit.web.telemetry.models import Recording, Source
from nembrit.web.tunes.models import Slip

ALARM_FACTORS = {key: 0.01 if kind[2] == "%" else 1.0 for key, kind in KINDS.items()}
_TEST_S = 3.0
# key → label, unit, factor, decimals: the values that are shown large, in this order
SHOWN: tuple[tuple[str, str, str, float, int], ...] = (
    ("cell_v", "cell", "V", 1.0, 2), ("battery_voltage", "pack", "V", 1.0, 1), ("battery_current", "current", "A", 1.0, 1),
    ("used_mah", "used", "mAh", 1.0, 0), ("minutes_left", "left, at least", "min", 1.0, 1),
    ("link_quality", "link", "%", 100.0, 0),
    ("altitude", "height", "m", 1.0, 0), ("home_distance", "distance", "m", 1.0, 0), ("ground_speed", "speed", "m/s", 1.0, 1),
    ("airspeed", "airspeed", "m/s", 1.0, 1), ("energy_margin", "energy spare at home", "%", 100.0, 0),
    ("wind_m_s", "wind", "m/s", 1.0, 1), ("wind_from_deg", "wind from", "°", 1.0, 0),
)  # fmt: skip
MARKS = ("take-off", "good", "bad", "look here")


def live_of(craft: Craft, *, is_owner: bool) -> dict[str, Any]:
    """For the template; the script takes it from there."""
    source, going = recordings.source_of(craft), recordings.present(craft)
    return {
        "craft": craft, "source": source if source.pk else None, "going": going, "is_owner": is_owner, "marks": MARKS,
        "shown": SHOWN, "stand_in": standin.is_going(craft), "earlier": list(Recording.objects.filter(craft=craft)[:6]),
        "address": recordings.address_of(source) if source.pk else "",
        "spec": {"cells": craft.cells, "labels": {key: kind[1] for key, kind in KINDS.items()}},
        "flagged": link.contradictions(craft),
    }  # fmt: skip


def alarm_rows(craft: Craft) -> list[dict[str, Any]]:
    """Every alarm with its limit as it is shown."""
    own = {one.key: one for one in recordings.alarms_of(craft)}
    found = []
    for key, (_, label, unit, _, delay_s, _) in KINDS.items():
        one = own.get(key)
        limit = None if one is None else one.limit / ALARM_FACTORS[key]
        found.append(
            {"key": key, "label": label, "unit": unit, "limit": "" if limit is None else f"{limit:g}", "has_limit": key !=
            "failsafe",
             "delay": f"{delay_s if one is None else one.delay_s:g}", "is_on": one is not None and one.is_on}
        )  # fmt: skip
    return found


def tested(source: Source, *, busy: bool) -> str:
    """Listen for a moment: “receiving 12 lines a second; 9 of 11 columns understood”."""
    if busy:
        return "Recording now: the live page shows the data."
    address = SourceAddress(kind=source.kind, host=source.host, port=source.port, device=source.device, baud=source.baud)
    try:
        opened = open_source(address)
    except SourceLost as error:
        return f"Not ready: {error}"
    reader, rows = LineReader(), []
    until = time.monotonic() + _TEST_S
    try:
        while time.monotonic() < until:
            rows += reader.feed(opened.read())
    except SourceLost as error:
        return f"Not ready: {error}"
    finally:
        opened.close()
    if not rows:
        bad = reader.counts.garbage + reader.counts.wrong_checksum
        return (
            f"{bad} lines received, none readable: {reader.counts.last_bad}"
            if bad
            else "Nothing received in three seconds. Does the source send to this address?"
        )
    columns = columns_of(rows)
    known = sum(bool(one.key) for one in columns)
    return f"Receiving {len(rows) / _TEST_S:.0f} lines a second; {known} of {len(columns)} columns understood"


def link_of(craft: Craft, chosen: Configuration | None) -> dict[str, Any]:
    """Settings over the link; with a chosen revision what would be written, each value old and new."""
    slip = Slip.objects.filter(tune__craft=craft, state=Slip.State.OPEN).select_related("result_configuration").first()
    context: dict[str, Any] = {
        "craft": craft, "source": recordings.source_of(craft), "found": link.newest(craft), "latest": latest_configuration(craft),
        "slip": slip, "flagged": link.contradictions(craft), "chosen": chosen,
        "configurations": list(craft.configurations.all()[:20]),
    }  # fmt: skip
    if chosen is not None:
        try:
            context["writes"] = link.writes_of(craft, chosen)
        except InputError as error:
            context["cannot"] = str(error)
    return context


def linked(craft: Craft, do: str, form: Mapping[str, Any]) -> str:
    """Do what a press asked for; what it came to. Raises InputError."""
    if do == "read":
        found = link.read(craft)
        same = (
            f"It is identical to {found.same_as}"
            if found.same_as
            else f"It differs from the latest settings in {len(found.changes)} values"
        )
        return f"Read. {same}, and {'saved' if found.read.is_saved else 'not saved: lost at the next restart'}."
    if do == "keep":
        return f"Kept as {link.keep(craft)}."
    if do == "write":
        chosen = Configuration.objects.filter(craft=craft, pk=row_number(form.get("to")) or 0).first()
        if chosen is None:
            raise InputError("choose settings first")
        if "props" not in form:
            raise InputError("take the propellers off first, and tick the box")
        confirmed = {name.removeprefix("was-"): str(value) for name, value in form.items() if name.startswith("was-")}
        link.write(craft, chosen, confirmed)
        return f"{chosen} is written and verified, but not saved. Save it, or the craft loses it at the next restart."
    if do == "save":
        link.save(craft)
        return "Saved: these settings survive a restart."
    if do == "restart":
        found = link.restart(craft)
        same = f"it has {found.same_as}" if found.same_as else "it has settings that are not saved here"
        return f"Restarted: {same}."
    if do == "log":
        name, content = link.log_of(craft)
        fields = {"configuration_id": latest_id(craft)}
        (received, *_) = receive_file(craft, name, content, flight_fields=fields)
        if received.refusal:
            raise InputError(received.refusal)
        return "On-board log received; it is being read."
    raise InputError("the link cannot do that")


def latest_id(craft: Craft) -> int | None:
    latest = latest_configuration(craft)
    return None if latest is None else latest.pk


def answers_of(one: Recording, tally: Tally, state: Mapping[str, Any]) -> list[tuple[str, str]]:
    """What telemetry alone says: endurance, link and track. A quantity that never came is left out, endurance says why."""
    found: list[tuple[str, str]] = []
    mean_a, capacity = tally.mean_current_a, recordings.source_of(one.craft).capacity_mah
    if mean_a is None:
        found.append(("Endurance", "not enough data: needs current and half a minute in the air"))
    else:
        length = f"{tally.flying_s / 60:.1f} min under load, {tally.flying_mah:.0f} mAh, {mean_a:.1f} A on average"
        full_s = tally.endurance_s(capacity)
        pack = "set the pack’s capacity at *Source and link*" if full_s is None else f"a full pack lasts {full_s / 60:.1f} min"
        found.append(("Endurance", f"{length}; {pack.replace('*', '')}"))
    if tally.lowest_cell_v is not None:
        found.append(("Lowest cell", f"{tally.lowest_cell_v:.2f} V"))
    if tally.weakest_link is not None:
        where = "" if tally.weakest_link_at_m is None else f" at {tally.weakest_link_at_m:.0f} m from home"
        sent = (state.get("rows") or 0) + (state.get("dropped") or 0)
        lost = f"; {100 * (state.get('dropped') or 0) / sent:.1f} % of the lines were lost" if sent else ""
        found.append(("Link", f"weakest {100 * tally.weakest_link:.0f} %{where}{lost}"))
    parts = (
        (tally.track_m or None, "{:.0f} m flown"), (tally.furthest_m, "{:.0f} m from home at most"),
        (tally.highest_m, "{:.0f} m high at most"), (tally.fastest_m_s, "{:.1f} m/s at most"),
    )  # fmt: skip
    track = ", ".join(words.format(value) for value, words in parts if value is not None)
    if track:
        found.append(("Track", track))
    return found


def recording_of(one: Recording) -> dict[str, Any]:
    """One recording with what was counted."""
    path = recordings.folder_of(one)
    state = recordings.state(one)
    began = one.started_at.timestamp()
    columns = state.get("columns", [])
    return {
        "one": one, "craft": one.craft, "state": state,
        "events": [{"at": at_s - began, "words": words} for at_s, words in recordings.happened(path)],
        "answers": answers_of(one, Tally.of(state.get("tally", {})), state),
        "n_known": sum(bool(column.get("key")) for column in columns), "n_columns": len(columns),
        "candidates": recordings.candidates(one) if one.flight is None and one.ended_at else [],
    }  # fmt: skip
