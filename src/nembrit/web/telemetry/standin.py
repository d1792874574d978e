"""The stand-in on the line, started by one press: a process that flies a craft of this workshop."""

import contextlib
import json
import os
import signal
import subprocess
import sys
from pathlib import Path

from django.conf import settings

from nembrit.core.errors import InputError
from nembrit.core.setup.cards import CARDS, WING_CARDS
from nembrit.core.setup.configuration import settings_text
from nembrit.core.setup.controller import controller_to_json
from nembrit.core.setup.craft import craft_to_json
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import controller_of, core_craft, core_settings, latest_configuration
from nembrit.web.telemetry.models import Source

_PORT, _LINK = 14_600, 14_700
_kept: list[subprocess.Popen[bytes]] = []  # their standard input ends with this server, and they with it


def _pid_file(craft: Craft) -> Path:
    return Path(settings.DATA_FOLDER) / "stand-in" / f"{craft.pk}.pid"


def _pid(craft: Craft) -> int | None:
    """Of the stand-in that flies this craft; pages are served by more than one process, so that it is kept in a file."""
    try:
        pid = int(_pid_file(craft).read_text())
        for one in _kept:
            one.poll()  # one that ended leaves the list of processes
        os.kill(pid, 0)
    except (OSError, ValueError):
        return None
    return pid


def is_going(craft: Craft) -> bool:
    return _pid(craft) is not None


def start(craft: Craft, *, charge_pct: float = 14.0) -> None:
    """Start it with the latest settings and a nearly empty pack, and set the craft's source up for it. Raises InputError without
    settings.
    """
    latest = latest_configuration(craft)
    if latest is None:
        raise InputError("save the craft’s settings first: the stand-in flies them")
    is_plane = craft.kind == Craft.Kind.FIXED_WING
    folder = Path(settings.DATA_FOLDER) / "stand-in"
    folder.mkdir(exist_ok=True, mode=0o700)
    files = {name: folder / f"{craft.pk}-{name}" for name in ("craft.json", "config.json", "settings.txt")}
    files["craft.json"].write_text(json.dumps(craft_to_json(core_craft(craft))))
    files["settings.txt"].write_text(settings_text(core_settings(latest)))
    words = ["--craft", str(files["craft.json"]), "--settings", str(files["settings.txt"])]
    if not is_plane:
        files["config.json"].write_text(json.dumps(controller_to_json(controller_of(latest))))
        words += ["--config", str(files["config.json"])]
    port, link = _PORT + craft.pk % 90, _LINK + craft.pk % 90
    words += ["--udp", f"127.0.0.1:{port}", "--link", str(link), "--charge", f"{charge_pct:g}", "--tired", "0.15", "--tied"]
    words += ["--card", WING_CARDS[0].key if is_plane else CARDS[0].key]
    stop(craft)
    process = subprocess.Popen(
        [sys.executable, "-m", "nembrit.cli", "stand-in", *words], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    _kept.append(process)
    _pid_file(craft).write_text(str(process.pid))
    Source.objects.update_or_create(
        craft=craft,
        defaults={"kind": "udp", "host": "127.0.0.1", "port": port, "link_host": "127.0.0.1", "link_port": link,
                  "capacity_mah": 2200.0},
    )  # fmt: skip


def stop(craft: Craft) -> None:
    pid = _pid(craft)
    if pid is not None:
        with contextlib.suppress(OSError):
            os.kill(pid, signal.SIGTERM)
    _pid_file(craft).unlink(missing_ok=True)
