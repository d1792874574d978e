"""`nembrit stand-in`: a craft on the line, for whoever has no hardware at hand."""

import argparse
import json
from pathlib import Path
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.setup.cards import CARDS, WING_CARDS
from nembrit.core.setup.controller import controller_from_json
from nembrit.core.setup.craft import craft_from_json
from nembrit.core.setup.pasted import parse_settings

_HIGHEST_PORT = 65_535


def add_command(commands: Any) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = commands.add_parser(
        "stand-in", help="fly a card in real time: telemetry, settings over the link, an on-board log after landing"
    )
    parser.add_argument("--craft", required=True, metavar="CRAFT.json")
    parser.add_argument("--config", metavar="CONFIG.json", help="its controller; a multirotor needs one")
    parser.add_argument("--settings", metavar="SETTINGS.txt", help="settings that it reports over the link")
    parser.add_argument("--card", default="", help="key of the card that it flies")
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument("--udp", metavar="HOST:PORT")
    where.add_argument("--tcp", metavar="HOST:PORT")
    where.add_argument("--pty", action="store_true", help="a pseudo-terminal; its name is printed")
    parser.add_argument("--link", type=int, default=0, metavar="PORT", help="for settings; 0 chooses one")
    parser.add_argument("--rate", type=float, default=20.0, help="lines a second")
    parser.add_argument("--loss", type=float, default=2.0, help="per cent of lines lost")
    parser.add_argument("--charge", type=float, default=95.0, help="of the pack, per cent")
    parser.add_argument("--tired", type=float, default=0.0, metavar="V", help="voltage lost per cell of a worn pack")
    parser.add_argument("--wind", type=float, default=2.0, help="m/s")
    parser.add_argument("--form", choices=("json", "mixed"), default="json")
    parser.add_argument("--tied", action="store_true", help="stop when standard input ends")
    return parser


def stand_in(options: argparse.Namespace) -> int:
    """Raises InputError for what cannot be flown."""
    from nembrit import standin

    craft = craft_from_json(_document(options.craft))
    controller = controller_from_json(_document(options.config)) if options.config else None
    if controller is None and craft.kind != "fixed_wing":
        raise InputError("a multirotor needs its controller: give --config CONFIG.json")
    cards = WING_CARDS if craft.kind == "fixed_wing" else CARDS
    card = next((one for one in cards if one.key == options.card), None if options.card else cards[0])
    if card is None:
        raise InputError(f"there is no card “{options.card}”; expected {', '.join(one.key for one in cards)}")
    if not 0.5 <= options.rate <= 400 or not 0 <= options.loss < 90 or not 0 <= options.link <= _HIGHEST_PORT:
        raise InputError("expected 0.5 to 400 lines a second, less than 90 % lost, and a port up to 65535")
    if not 10 <= options.charge <= 100 or not 0 <= options.tired <= 1 or not 0 <= options.wind <= 12:
        raise InputError("a pack is charged by 10 to 100 %, tired by 0 to 1 V per cell, and wind blows with up to 12 m/s")
    for address in (options.udp, options.tcp):
        if address and not (address.rpartition(":")[2].isdigit() and 0 < int(address.rpartition(":")[2]) <= _HIGHEST_PORT):
            raise InputError(f"“{address}” is no address: expected HOST:PORT")
    settings = {}
    if options.settings:
        try:
            text = Path(options.settings).read_text()
        except OSError as error:
            raise InputError(f"{options.settings}: {error.strerror}") from None
        settings = {one.name: one.value for one in parse_settings(text)}
    return standin.main(options, craft, controller, card, settings)


def _document(path: str) -> dict[str, Any]:
    try:
        found = json.loads(Path(path).read_text())
    except OSError as error:
        raise InputError(f"{path}: {error.strerror}") from None
    except ValueError:
        raise InputError(f"{path} is no JSON") from None
    if not isinstance(found, dict):
        raise InputError(f"{path} should hold a JSON object")
    return found
