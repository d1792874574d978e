"""`nembrit filters | predict | advise`: other filters and gains tried on one log, and the one next step."""

import argparse
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from nembrit.core.analysis.choosing import Choosing, axes_told
from nembrit.core.analysis.decision import decide
from nembrit.core.analysis.flight import CraftFacts, Flight, Prepared
from nembrit.core.analysis.run import analyse
from nembrit.core.causes.finding import Finding
from nembrit.core.errors import InputError
from nembrit.core.progress import Progress
from nembrit.core.report.choosing import advice_document, filters_document, prediction_document
from nembrit.core.setup.controller import Controller, chains_from_json, controller_from_json, with_chains
from nembrit.core.setup.craft import craft_from_json
from nembrit.core.tuning.whatif import Change
from nembrit.core.types import AXES

_LEAST, _MOST = 0.05, 20.0
_USUAL_IN = 5.0  # propellers, where no craft is given


def add_meanings(command: argparse.ArgumentParser) -> None:
    """The option of every command that reads a log."""
    command.add_argument(
        "--meanings", metavar="MEANINGS.json", help="meanings of columns and modes, as exported by the web application"
    )


def add_commands(commands: Any) -> None:
    """The three commands' own arguments; `run` is set by the caller."""
    filters = commands.add_parser("filters", help="delay and remaining noise of another filter chain")
    filters.add_argument("--chain", required=True, metavar="CHAIN.json", help="the filters part of a configuration")
    predict = commands.add_parser("predict", help="response of an axis with other gains or filters")
    predict.add_argument("--set", nargs="+", default=[], metavar="AXIS.TERM=RATIO", help="ratios to the flown gains: roll.p=1.2")
    predict.add_argument("--chain", metavar="CHAIN.json")
    advise = commands.add_parser("advise", help="the next step after this log: a change, a repair, a flight, or nothing")
    for command in (filters, predict, advise):
        command.add_argument("log")
        command.add_argument("--craft")
        command.add_argument("--config")
        add_meanings(command)
        command.add_argument("--json", action="store_true", help="one JSON object on standard output (the only format)")
    filters.set_defaults(choose=_filters)
    predict.set_defaults(choose=_predict)
    advise.set_defaults(choose=_advise, chain=None)


def answer(
    options: argparse.Namespace, prepared: Prepared, window_s: tuple[float, float], craft: CraftFacts,
    document: Callable[[str], dict[str, Any]], progress: Progress,
) -> tuple[dict[str, Any], bool]:  # fmt: skip
    """The command's JSON, and whether anything could be answered."""
    flown = _flown(document(options.config)) if options.config else None
    chain = document(options.chain) if options.chain else None
    chains = None if chain is None else with_chains(flown or Controller(loop_rate_hz=4000.0, gains={}), chain)
    change = Change(gains=_ratios(getattr(options, "set", [])), chains=chains)
    si = flown if flown and flown.gains else None
    recording = prepared.recording.span(*window_s)
    flight = Flight(recording, craft=replace(craft, controller=si), spans=prepared.spans)
    keys = ("response", "shaping", "loop", *(("judgement",) if options.choose is _advise else ()))
    found = analyse(flight, only=keys, progress=progress)
    bench = Choosing(
        loop=found.loop,
        steps=found.response.steps if found.response else {},
        shaping=found.shaping,
        flown=flown,
        mixer=craft.mixer if craft.mixer is not None else np.ones((4, 3)),
    )
    if options.choose is _advise:
        return _advise(bench, found.judgement.findings if found.judgement else (), _diameter(options, document)), True
    told: dict[str, Any] = options.choose(bench, change)
    return told, bool(axes_told(bench)) or bool(found.shaping and found.shaping.rows)


def _filters(bench: Choosing, change: Change) -> dict[str, Any]:
    assert change.chains is not None
    return filters_document(bench, change.chains)


def _predict(bench: Choosing, change: Change) -> dict[str, Any]:
    if not change.gains and change.chains is None:
        raise InputError("say what to change: --set roll.p=1.2, or --chain CHAIN.json")
    return prediction_document(bench, change)


def _advise(bench: Choosing, findings: Sequence[Finding], diameter_in: float) -> dict[str, Any]:
    return advice_document(decide(findings, bench, diameter_in=diameter_in), bench)


def _diameter(options: argparse.Namespace, document: Callable[[str], dict[str, Any]]) -> float:
    return craft_from_json(document(options.craft)).diameter_in if options.craft else _USUAL_IN


def _flown(document: dict[str, Any]) -> Controller:
    return controller_from_json(document) if document.get("gain_units", "shown") == "si" else chains_from_json(document)


def _ratios(words: list[str]) -> dict[str, dict[str, float]]:
    found: dict[str, dict[str, float]] = {}
    for word in words:
        name, _, text = word.partition("=")
        axis, _, term = name.partition(".")
        try:
            ratio = float(text)
        except ValueError:
            ratio = float("nan")
        if axis not in AXES or term not in ("p", "i", "d", "f") or not _LEAST <= ratio <= _MOST:
            raise InputError(f"--set takes AXIS.TERM=RATIO such as roll.p=1.2, ratios from {_LEAST:g} to {_MOST:g}; not “{word}”")
        found.setdefault(axis, {})[term] = ratio
    return found
