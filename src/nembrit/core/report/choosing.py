"""`nembrit.filters/1` and `nembrit.prediction/1`: filters and gains tried on one flight, as documented JSON."""

from typing import Any

from nembrit.core.analysis.choosing import Choosing, axes_told
from nembrit.core.analysis.decision import NAME, Decision
from nembrit.core.errors import NotEnoughData
from nembrit.core.filters.stated import lag_deg, stated_delay_s
from nembrit.core.report.response import rounded
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.margins import MOST_GAIN_MARGIN_DB
from nembrit.core.setup.controller import Controller, controller_to_json
from nembrit.core.tuning.residual import folded_sentence
from nembrit.core.tuning.whatif import Change, Predicted

_PLACES = ("chip", "gyro", "d_term", "feed_forward")
# key in the report → field, factor, unit at the end of the key
_KEYS = (
    ("bandwidth", "bandwidth_hz", 1.0, "_hz"), ("peak", "peak_db", 1.0, "_db"), ("delay", "delay_s", 1000.0, "_ms"),
    ("rise_time", "rise_time_s", 1000.0, "_ms"), ("overshoot", "overshoot_ratio", 100.0, "_pct"),
    ("settling_time", "settling_time_s", 1000.0, "_ms"), ("gain_margin", "gain_margin_db", 1.0, "_db"),
    ("phase_margin", "phase_margin_deg", 1.0, "_deg"), ("sensitivity_peak", "sensitivity_peak", 1.0, ""),
)  # fmt: skip


def filters_document(bench: Choosing, chains: Controller) -> dict[str, Any]:
    """`nembrit.filters/1`: delay by place, lag at the crossover, what is left of the noise, and the flown chain's check."""
    notes: list[str] = []
    change = Change(chains=chains)
    rate_hz, rotor_hz = chains.loop_rate_hz, bench.rotor_hz
    delays = {place: rounded(1000 * stated_delay_s(getattr(chains, place), rate_hz, rotor_hz)) for place in _PLACES}
    lags = {
        axis: {
            "crossover_hz": rounded(at_hz),
            "gyro": rounded(lag_deg((*chains.chip, *chains.gyro), at_hz, rate_hz, rotor_hz)),
            "d_term": rounded(lag_deg(chains.d_term, at_hz, rate_hz)),
        }
        for axis, own in (bench.loop.axes if bench.loop else {}).items()
        if (at_hz := own.crossover_hz) is not None
    }
    left: dict[str, Any] = {}
    check: dict[str, Any] = {}
    try:
        found, ratio = bench.residual(change), bench.motor_ratio(change)
        for axis, bands in found.bands_dps.items():
            told = {band: {"rms_dps": rounded(value)} for band, value in bands.items()}
            left[axis] = {"bands": told, "motor_noise_ratio": rounded(ratio)}
        check = {
            axis: {"error_db": {band: rounded(value) for band, value in bands.items()}}
            for axis, bands in bench.check.error_db.items()
        }
        notes += [folded_sentence(bench.check, axis) for axis in bench.check.folded]
        notes += bench.noise.notes
    except NotEnoughData as error:
        notes.append(str(error))
    if bench.loop is not None:
        notes += [f"{axis}: {reason}" for axis, reason in bench.loop.reasons.items()]
    notes += _standing(bench, change)
    return {
        "schema": "nembrit.filters/1", "delay_ms": delays, "phase_lag_deg": lags, "residual": left, "check": check,
        "notes": list(dict.fromkeys(notes)),
    }  # fmt: skip


def prediction_document(bench: Choosing, change: Change) -> dict[str, Any]:
    """`nembrit.prediction/1`: every axis whose loop the flight could tell, as flown and with the change."""
    asked = {f"{axis}.{term}": ratio for axis, terms in change.gains.items() for term, ratio in terms.items()}
    axes = axes_told(bench)
    notes = [f"{axis}: {reason}" for axis, reason in (bench.loop.reasons.items() if bench.loop else ())]
    response: dict[str, Any] = {}
    for axis in axes:
        told = bench.predicted(axis, change)
        response[axis] = _response(told)
    notes += _standing(bench, change)
    motors = bench.motors(change)
    if change.chains is not None and bench.flown is None:
        notes.append("it is not known which filters flew: give --config; the new chain is left out")
    return {
        "schema": "nembrit.prediction/1",
        "set": {key: rounded(value) for key, value in asked.items()},
        "flown": {axis: _response(bench.predicted(axis, Change())) for axis in axes},
        "response": response,
        "motor_noise": None if motors is None else rounded(motors.value),
        "motor_noise_interval": None if motors is None else [rounded(motors.low), rounded(motors.high)],
        "notes": notes,
    }


def _standing(bench: Choosing, change: Change) -> list[str]:
    """What the gate has against a change."""
    if not change.gains and change.chains in (None, bench.flown):
        return []
    stands = bench.ruling(change)
    return [f"{one}: do not fly this" for one in stands.forbidden] + list(stands.limits)


def advice_document(found: Decision, bench: Choosing) -> dict[str, Any]:
    """`nembrit.advice/1`: the one next step, what it does to the margins of every measured axis, and what else would do."""
    notes = [f"{axis}: {reason}" for axis, reason in (bench.loop.reasons.items() if bench.loop else ())]
    return {
        "schema": "nembrit.advice/1", "decision": _decision(found, bench),
        "alternatives": [_decision(one, bench) for one in found.alternatives], "notes": notes,
    }  # fmt: skip


def _decision(one: Decision, bench: Choosing) -> dict[str, Any]:
    chain = None if one.chains is None else controller_to_json(one.chains)["filters"]
    is_change = bool(one.ratios or one.chains)
    return {
        "kind": "nothing" if one.kind == NAME else one.kind, "group": _group(one.group),
        "set": {f"{axis}.{term}": rounded(ratio) for axis, terms in one.ratios.items() for term, ratio in terms.items()},
        "idle_ratio": rounded(one.idle_ratio), "chain": chain, "part": one.part, "card": one.card, "why": one.why,
        "safety": {axis: _safety(bench.predicted(axis, one.change)) for axis in axes_told(bench)} if is_change else {},
    }  # fmt: skip


def _group(group: str | None) -> str | None:
    """As the contract of reports names groups: `p_d.roll` for the pages' `pd.roll`."""
    return None if group is None else group.replace("pd.", "p_d.")


def _safety(told: Predicted) -> dict[str, Any]:
    part: dict[str, Any] = {"is_stable": told.is_stable}
    for name in ("phase_margin_deg", "sensitivity_peak"):
        own: Estimate | None = getattr(told, name)
        stem, unit = (name.removesuffix("_deg"), "_deg") if name.endswith("_deg") else (name, "")
        part[name] = None if own is None else rounded(own.value)
        part[f"{stem}_interval{unit}"] = None if own is None else [rounded(own.low), rounded(own.high)]
    return part


def _response(told: Predicted) -> dict[str, Any]:
    part: dict[str, Any] = {"stable": told.is_stable}
    for name, field, factor, unit in _KEYS:
        own: Estimate | None = getattr(told, field)
        part[f"{name}{unit}"] = None if own is None else rounded(own.value * factor)
        part[f"{name}_interval{unit}"] = None if own is None else [rounded(own.low * factor), rounded(own.high * factor)]
    if told.is_stable and told.gain_margin_db is None:
        part["gain_margin_above_db"] = MOST_GAIN_MARGIN_DB
    return part
