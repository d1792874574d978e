"""`nembrit inspect | analyse | filters | predict | convert | simulate | compare`: the same core without the web.

Exit status: 0 done, 2 wrong use, 3 the file cannot be read, 4 readable, but nothing can be answered.
"""

import argparse
import hashlib
import json
import os
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from nembrit import __version__, cli_choosing, cli_live, cli_sight
from nembrit.cli_choosing import add_meanings
from nembrit.core.analysis.flight import CraftFacts, Flight, Prepared
from nembrit.core.analysis.run import analyse
from nembrit.core.errors import CoreError, InputError, LogReadError
from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.give import WRITERS, GivenColumn
from nembrit.core.formats.registry import read_log
from nembrit.core.given import made
from nembrit.core.records.log import Recording
from nembrit.core.records.meanings import MeaningsError
from nembrit.core.report.documents import comparison_document, log_document, report_document
from nembrit.core.setup.card import card_from_json
from nembrit.core.setup.controller import controller_from_json, gains_of_json
from nembrit.core.setup.craft import Craft, craft_from_json
from nembrit.core.trials.plan import Primary
from nembrit.core.trials.verdict import FlightValues, compare_flights

_REPORTED = ("noise", "response", "motors", "judgement", "loop", "wing")
WRONG_USE, UNREADABLE, UNANSWERABLE = 2, 3, 4


def main(arguments: list[str] | None = None) -> int:
    parser = _parser()
    options = parser.parse_args(arguments)
    try:
        return int(_choose(options) if "choose" in options else options.run(options))
    except LogReadError as error:
        print(error, file=sys.stderr)
        return UNREADABLE
    except InputError as error:
        print(error, file=sys.stderr)
        return WRONG_USE
    except BrokenPipeError:  # the reader has enough (`| head`): what Python still holds goes nowhere
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="nembrit", description="Analyse flight logs from the command line.")
    parser.add_argument("--version", action="version", version=f"Nembrit {__version__}")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    inspect = commands.add_parser("inspect", help="what a log contains and its problems")
    inspect.add_argument("log")
    inspect.add_argument("--craft")
    inspect.set_defaults(run=_inspect)

    report = commands.add_parser("analyse", help="noise, response and findings of one log")
    report.add_argument("log")
    report.add_argument("--craft")
    report.add_argument("--config")
    report.add_argument("--window", metavar="START:END", help="seconds from the first sample")
    report.set_defaults(run=_analyse)

    compare = commands.add_parser("compare", help="judge a change from flights before and after")
    compare.add_argument("--before", nargs="+", required=True, metavar="LOG")
    compare.add_argument("--after", nargs="+", required=True, metavar="LOG")
    compare.add_argument("--craft")
    compare.add_argument("--config-before")
    compare.add_argument("--config-after")
    compare.add_argument("--primary", metavar="METRIC:lower|higher")
    compare.set_defaults(run=_compare)

    convert = commands.add_parser(
        "convert", help="write a log as CSV, Parquet or JSON Lines, with meanings and units in the header"
    )
    convert.add_argument("log")
    convert.add_argument("-o", "--output", required=True, metavar="OUT.(csv|parquet|jsonl)")
    convert.set_defaults(run=_convert)

    simulate = commands.add_parser("simulate", help="fly a card in the simulator and write its log")
    simulate.add_argument("craft")
    simulate.add_argument("--config", required=True)
    simulate.add_argument("--card", required=True)
    simulate.add_argument("--world")
    simulate.add_argument("--seed", type=int, required=True)
    simulate.add_argument("-o", "--output", required=True)
    simulate.set_defaults(run=_simulate)

    cli_choosing.add_commands(commands)
    cli_live.add_command(commands).set_defaults(run=cli_live.stand_in)
    sight = cli_sight.add_command(commands)
    sight.set_defaults(run=_sight)
    for command in (inspect, report, compare, convert):
        add_meanings(command)
    for command in (inspect, report, compare, sight):
        command.add_argument("--json", action="store_true", help="one JSON object on standard output (the only format)")
    return parser


def _inspect(options: argparse.Namespace) -> int:
    _, part = _read(options.log, _craft(options.craft).kind, options.meanings)
    _print(part)
    return 0


def _analyse(options: argparse.Namespace) -> int:
    craft = _craft(options.craft)
    prepared, part = _read(options.log, craft.kind, options.meanings)
    shown_gains, controller = gains_of_json(_document(options.config)) if options.config else (None, None)
    craft = replace(craft, controller=controller)
    recording = prepared.recording
    start_s, end_s = _window(options.window, part["window_s"], recording)
    flight = Flight(recording.span(start_s, end_s), craft=craft, spans=prepared.spans)
    results = analyse(flight, only=_REPORTED, progress=_tell)
    part["window_s"] = [start_s - recording.start_s, end_s - recording.start_s]
    _print(
        report_document(
            results,
            part,
            spans=prepared.spans,
            window_start_s=flight.recording.start_s,
            shown_gains=shown_gains,
            recording=flight.recording,
        )
    )
    is_answered = (
        (results.noise and results.noise.is_there)
        or (results.response and results.response.steps)
        or (results.wing and results.wing.is_there)
    )
    return 0 if is_answered else UNANSWERABLE


def _choose(options: argparse.Namespace) -> int:
    prepared, part = _read(options.log, meanings=options.meanings)
    start_s, end_s = (prepared.recording.start_s + edge for edge in part["window_s"])
    told, is_answered = cli_choosing.answer(options, prepared, (start_s, end_s), _craft(options.craft), _document, _tell)
    _print(told)
    return 0 if is_answered else UNANSWERABLE


def _sight(options: argparse.Namespace) -> int:
    _print(cli_sight.answer(options))
    return 0


def _compare(options: argparse.Namespace) -> int:
    primary = None
    if options.primary:
        metric, _, direction = options.primary.partition(":")
        primary = Primary(metric=metric, direction=direction)
    craft = _craft(options.craft)
    for path in (options.config_before, options.config_after):
        if path:
            _document(path)
    flights = [
        FlightValues(is_after=is_after, metrics=_metrics(path, craft, options.meanings))
        for is_after, paths in ((False, options.before), (True, options.after))
        for path in paths
    ]
    comparison = compare_flights(flights, primary=primary)
    _print(comparison_document(comparison))
    return 0 if comparison.metrics else UNANSWERABLE


def _convert(options: argparse.Namespace) -> int:
    log = _read(options.log, meanings=options.meanings)[0].log
    writer = WRITERS.get(Path(options.output).suffix.removeprefix("."))
    if writer is None:
        raise InputError(f"{options.output} should end in {', '.join('.' + kind for kind in WRITERS)}")
    columns = [
        GivenColumn(
            role=channel.role,
            name=channel.name.removeprefix("other."),
            unit=channel.unit or channel.stated_unit,
            values=channel.values() if channel.labels is None else channel.samples,
            labels=channel.labels,
        )
        for channel in log.main.channels
    ]
    _write(options.output, writer(log.main.t_s, columns))
    return 0


def _write(path: str, content: bytes) -> None:
    try:
        Path(path).write_bytes(content)
    except OSError as error:
        raise InputError(f"{path} cannot be written: {error.strerror}") from None


def _simulate(options: argparse.Namespace) -> int:
    craft = craft_from_json(_document(options.craft))
    if craft.kind == "fixed_wing":
        return _simulate_plane(craft, options)
    from nembrit.core.simulate.airframe import World
    from nembrit.core.simulate.flight import DECIMALS, fly, write_order

    controller = controller_from_json(_document(options.config))
    card = card_from_json(_document(options.card))
    world = _document(options.world) if options.world else {}
    flown = made(World, {**world, "seed": options.seed}, where=str(options.world or "the world"))
    flight = fly(craft, controller, card, flown)
    channels = [(role, flight.channels[role]) for role in write_order(craft)]
    _write(options.output, nembrit_csv.write(channels, flight.t_s, decimals=DECIMALS))
    return 0


def _simulate_plane(craft: Craft, options: argparse.Namespace) -> int:
    """A plane's controller is a sound one; CONFIG.json describes a multirotor's and is not read."""
    from nembrit.core.simulate.plane.airframe import PlaneWorld
    from nembrit.core.simulate.plane.flight import DECIMALS, fly_plane

    world = _document(options.world) if options.world else {}
    flown = made(PlaneWorld, {**world, "seed": options.seed}, where=str(options.world or "the world"))
    flight = fly_plane(craft.surfaces, card_from_json(_document(options.card)), flown)
    _write(options.output, nembrit_csv.write(flight.columns, flight.t_s, decimals=DECIMALS))
    return 0


def _read(path: str, kind: str = "multirotor", meanings: str | None = None) -> tuple[Prepared, dict[str, Any]]:
    given = _document(meanings) if meanings else None
    try:
        content = Path(path).read_bytes()
    except OSError as error:
        raise LogReadError(f"{path}: {error.strerror}") from None
    try:
        prepared = Prepared(read_log(content, meanings=given, progress=_tell))
        window_s = prepared.window_s
    except MeaningsError as error:
        raise InputError(f"{meanings}: {error}") from None
    except CoreError as error:
        raise LogReadError(f"{path}: {error}") from None
    digest = hashlib.sha256(content).hexdigest()
    return prepared, log_document(
        prepared.log, file=Path(path).name, sha256=digest, window_s=window_s, kind=kind, notes=prepared.notes
    )


def _metrics(path: str, craft: CraftFacts, meanings: str | None) -> dict[str, float]:
    prepared, _ = _read(path, craft.kind, meanings)
    flight = Flight(prepared.recording.span(*prepared.window_s), craft=craft, spans=prepared.spans)
    found = analyse(flight, only=("metrics",)).metrics
    return found.values if found else {}


def _window(text: str | None, found_s: list[float], recording: Recording) -> tuple[float, float]:
    if text is None:
        return recording.start_s + found_s[0], recording.start_s + found_s[1]
    try:
        start_s, end_s = (float(part) for part in text.split(":"))
    except ValueError:
        raise InputError(f"--window takes START:END in seconds, not “{text}”") from None
    if not 0 <= start_s < end_s <= recording.duration_s + 1e-6:
        raise InputError(f"the window {text} must lie within 0:{recording.duration_s:.3f}")
    return recording.start_s + start_s, recording.start_s + end_s


def _craft(path: str | None) -> CraftFacts:
    if path is None:
        return CraftFacts()
    craft = craft_from_json(_document(path))
    return CraftFacts(kind=craft.kind, mixer=craft.mixer(), blades=craft.blades, surfaces=craft.surfaces)


def _document(path: str) -> dict[str, Any]:
    try:
        document = json.loads(Path(path).read_text(encoding="utf-8"))
    except OSError as error:
        raise InputError(f"{path}: {error.strerror}") from None
    except RecursionError:
        raise LogReadError(f"{path} is nested too deeply to be read") from None
    except ValueError as error:
        raise InputError(f"{path} is not JSON: {error}") from None
    if not isinstance(document, dict):
        raise InputError(f"{path}: expected a JSON object")
    return document


def _tell(stage: str, share_ratio: float) -> None:
    print(f"{share_ratio:4.0%} {stage}", file=sys.stderr)


def _print(document: dict[str, Any]) -> None:
    json.dump(document, sys.stdout, ensure_ascii=False, allow_nan=False, indent=1)
    print()


if __name__ == "__main__":
    sys.exit(main())
