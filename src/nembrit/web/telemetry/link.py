"""Settings over a craft's link: read, compared, written from a slip, saved, restored; a read that contradicts a record is
told."""

import contextlib
import socket
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting
from nembrit.core.telemetry import link as protocol
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import add_configuration, core_settings, latest_configuration
from nembrit.web.telemetry.models import LinkRead, Source
from nembrit.web.tunes.models import Slip

_TIMEOUT_S = 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """What the craft said beside what is kept here."""

    read: LinkRead
    same_as: Configuration | None
    changes: list[tuple[str, str, str]]  # against the latest settings: name, latest, on the craft
    is_latest: bool


def ask(craft: Craft, do: str, values: Mapping[str, str] | None = None) -> protocol.Answer:
    """One request and its answer. Raises InputError where there is no link, nobody answers, or the craft refuses."""
    found = protocol.answer(_line(craft, protocol.request(do, values)))
    if found.error:
        raise InputError(f"the craft says: {found.error}")
    return found


def _line(craft: Craft, request: bytes) -> bytes:
    with _connected(craft) as connection:
        connection.sendall(request)
        return _first_line(connection)[0]


def _connected(craft: Craft) -> socket.socket:
    source = Source.objects.filter(craft=craft).first()
    if source is None or not source.link_port:
        raise InputError("no settings link is set up: enter its address at “Source and link”")
    try:
        return socket.create_connection((source.link_host or "127.0.0.1", source.link_port), timeout=_TIMEOUT_S)
    except OSError as error:
        told = error.strerror or "no answer"
        raise InputError(f"no response at {source.link_host} port {source.link_port} ({told}): is the craft powered?") from None


def _first_line(connection: socket.socket) -> tuple[bytes, bytes]:
    data = b""
    try:
        while b"\n" not in data:
            piece = connection.recv(65_536)
            if not piece or len(data) > protocol.MOST_BYTES:
                break
            data += piece
    except OSError:
        raise InputError("the craft did not respond in time, so its settings are unknown: read them again") from None
    line, _, rest = data.partition(b"\n")
    return line, rest


def read(craft: Craft) -> Compared:
    """Read all settings and compare them with what is kept. Raises InputError."""
    found = ask(craft, "read")
    latest = latest_configuration(craft)
    same = next(
        (one for one in craft.configurations.order_by("-number") if not protocol.differences(_texts(one), found.settings)), None
    )
    kept = LinkRead.objects.create(craft=craft, settings=found.settings, is_saved=found.is_saved, configuration=same)
    return _compared(kept, latest)


def newest(craft: Craft) -> Compared | None:
    kept = LinkRead.objects.filter(craft=craft).select_related("configuration").first()
    return None if kept is None else _compared(kept, latest_configuration(craft))


def _compared(kept: LinkRead, latest: Configuration | None) -> Compared:
    changes = protocol.differences(_texts(latest) if latest else {}, kept.settings)
    return Compared(read=kept, same_as=kept.configuration, changes=changes, is_latest=latest is not None and not changes)


def _texts(configuration: Configuration) -> dict[str, str]:
    return {one.name: one.value for one in core_settings(configuration)}


def keep(craft: Craft) -> Configuration:
    """The newest read as a new revision. Raises InputError where it says the same as the latest, or nothing was read."""
    found = newest(craft)
    if found is None:
        raise InputError("read its settings first")
    if found.is_latest:
        raise InputError("identical to the latest settings: nothing new to save")
    settings = [Setting(name=name, value=value) for name, value in found.read.settings.items()]
    made = add_configuration(craft, settings, source=Configuration.Source.PASTED, note="read over the link")
    found.read.configuration = made
    found.read.save(update_fields=("configuration",))
    return made


def writes_of(craft: Craft, configuration: Configuration) -> list[tuple[str, str, str]]:
    """What would be written so that the craft holds this revision: name, on the craft now, new. Raises InputError."""
    found = ask(craft, "read")
    wanted = _texts(configuration)
    return [(name, before, wanted[name]) for name, before, _ in protocol.differences(found.settings, wanted) if name in wanted]


def write(craft: Craft, configuration: Configuration, confirmed: Mapping[str, str]) -> Compared:
    """Write a revision's values, each as it was shown and confirmed, then read back. Raises InputError while armed or moving,
    where the craft holds other values than were shown, and where what is read back is not what was written.
    """
    now = ask(craft, "read")
    if now.refusal:
        raise InputError(now.refusal)
    due = {name: (before, after) for name, before, after in writes_of(craft, configuration)}
    if set(due) != set(confirmed) or any(before != confirmed[name] for name, (before, _) in due.items()):
        raise InputError("the values on the craft changed: check them again, then write")
    ask(craft, "write", {name: after for name, (_, after) in due.items()})
    found = read(craft)
    wrong = [
        name for name, (_, after) in due.items() if protocol.differences({name: after}, {name: found.read.settings.get(name, "")})
    ]
    if wrong:
        raise InputError(
            f"“{wrong[0]}” was written, but reads back as “{found.read.settings.get(wrong[0], 'missing')}”: write it again"
        )
    return found


def save(craft: Craft) -> Compared:
    """Make the craft keep what it holds, then read back."""
    ask(craft, "save")
    return read(craft)


def restart(craft: Craft) -> Compared:
    ask(craft, "restart")
    return read(craft)


def fly(craft: Craft) -> None:
    """The stand-in's own request: fly the card."""
    _plain(craft, "fly")


def _plain(craft: Craft, do: str) -> None:
    line = _line(craft, b'{"nembrit": "link/1", "do": "%s"}\n' % do.encode())
    found = protocol.answer(line)
    if found.error:
        raise InputError(f"the craft says: {found.error}")


def log_of(craft: Craft) -> tuple[str, bytes]:
    """The on-board log of the last flight: name and content. Raises InputError."""
    import json

    with _connected(craft) as connection:
        connection.sendall(protocol.request("log"))
        line, rest = _first_line(connection)
        try:
            head: dict[str, Any] = json.loads(line)
        except ValueError:
            raise InputError("the reply is not a log") from None
        if "bytes" not in head:
            raise InputError(f"the craft says: {head.get('error') or 'it has no log'}")
        size = int(head["bytes"])
        if not 0 < size < 500_000_000:
            raise InputError("the log size is invalid")
        pieces = [rest]
        while sum(map(len, pieces)) < size:
            with contextlib.suppress(TimeoutError):
                piece = connection.recv(1_000_000)
                if not piece:
                    raise InputError("the connection ended in the middle of the log: ask for it again")
                pieces.append(piece)
    return str(head.get("name") or "onboard.csv")[:100], b"".join(pieces)[:size]


def contradictions(craft: Craft) -> list[str]:
    """Flights and slips that the newest read contradicts: the craft flew, or holds, other settings than their record says."""
    found = newest(craft)
    if found is None:
        return []
    told = []
    flight = craft.flights.active().select_related("configuration").first()
    before = LinkRead.objects.filter(craft=craft, at__lte=flight.flown_at).first() if flight else None
    after = LinkRead.objects.filter(craft=craft, at__gt=flight.flown_at).order_by("at").first() if flight else None
    record = flight.configuration if flight is not None else None
    one = after or before  # what it holds after a flight is what it flew, unless somebody wrote between
    if flight is None or record is None or one is None or one.configuration_id == record.pk:
        pass
    elif protocol.differences(_texts(record), one.settings):
        flown = one.configuration or "settings that are not saved here"
        told.append(f"Flight {flight.number} flew {flown}, not {record}, not those in its record")
    slip = Slip.objects.filter(tune__craft=craft, state=Slip.State.OPEN).select_related("result_configuration").first()
    if (
        slip is not None
        and slip.result_configuration is not None
        and protocol.differences(_texts(slip.result_configuration), found.read.settings)
    ):
        told.append(f"The craft does not hold slip {slip.number}: write and save them before the next flight")
    return told
