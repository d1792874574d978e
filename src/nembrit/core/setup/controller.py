"""The controller that a configuration describes, in SI units: gains, filters, limits and stick rates."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.limits import within
from nembrit.core.setup.namemap import MEANINGS, NameMap
from nembrit.core.types import AXES

DEFAULT_RATES = ((0.0, 0.0), (0.5, 180.0), (1.0, 600.0))


@dataclass(frozen=True, slots=True, kw_only=True)
class Filter:
    """One filter as stated; `kind` is lowpass_1, lowpass_2, notch or rotor_notch."""

    kind: str
    frequency_hz: float = 0.0  # rotor_notch: the lowest centre
    q: float = 0.7071
    discretisation: str = "bilinear"
    orders: tuple[int, ...] = ()
    blend_hz: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class AxisGains:
    """Gains of one axis: command as share of full motor range per deg/s, per deg, per deg/s², per deg/s²."""

    p: float
    i: float
    d: float
    f: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Controller:
    """P and I act on set-point minus filtered gyro, D on the filtered gyro, F on the set-point's derivative."""

    loop_rate_hz: float
    gains: dict[str, AxisGains]
    chip: tuple[Filter, ...] = ()
    gyro: tuple[Filter, ...] = ()
    d_term: tuple[Filter, ...] = ()
    feed_forward: tuple[Filter, ...] = ()
    setpoint: tuple[Filter, ...] = ()
    output_limit: float = 0.5
    integral_limit: float = 0.25
    idle: float = 0.06
    output_rate_hz: float | None = None  # None: every loop
    stick_rates: dict[str, tuple[tuple[float, float], ...]] = field(default_factory=dict)

    def rates_of(self, axis: str) -> tuple[tuple[float, float], ...]:
        return self.stick_rates.get(axis, DEFAULT_RATES)


def controller_from_settings(settings: Sequence[Setting], names: NameMap) -> Controller:
    """Build the controller that mapped settings describe.

    Raises InputError that lists what is missing: a P, I or D gain without a name or scale, or a mapped
    value that is no number.
    """
    values = _si_values(settings, names)
    missing = [MEANINGS[key] for axis in AXES for term in "pid" if values.get(key := f"gain.rate.{axis}.{term}") is None]
    if missing:
        raise InputError(
            f"the controller is not complete: {missing[0]}{f' and {len(missing) - 1} more' if len(missing) > 1 else ''} "
            "need a name and a scale on the page “Setting names”"
        )
    gains = {axis: AxisGains(**{term: values.get(f"gain.rate.{axis}.{term}") or 0.0 for term in "pidf"}) for axis in AXES}
    return _controller(values, gains)


def chains_from_settings(settings: Sequence[Setting], names: NameMap) -> Controller | None:
    """The filters that mapped settings describe, whatever is known of the gains: those may come from the log.

    None where no filter has a meaning: then it is not known which ones flew. Raises InputError for a value that is no number.
    """
    values = _si_values(settings, names)
    if not any(key.startswith("filter.") for key in values):
        return None
    known = {
        axis: AxisGains(**{term: values.get(f"gain.rate.{axis}.{term}") or 0.0 for term in "pidf"})
        for axis in AXES
        if all(f"gain.rate.{axis}.{term}" in values for term in "pid")
    }
    return _controller(values, known)


def _controller(values: dict[str, float], gains: dict[str, AxisGains]) -> Controller:
    rates = {axis: _rates(values, axis) for axis in AXES if values.get(f"rates.{axis}.full_dps")}
    return Controller(
        loop_rate_hz=values.get("loop_rate_hz") or 4000.0,
        gains=gains,
        chip=_low_passes(values, "chip"),
        gyro=_low_passes(values, "gyro") + _notches(values),
        d_term=_low_passes(values, "d_term"),
        setpoint=_low_passes(values, "setpoint"),
        output_limit=values.get("output_limit") or 0.5,
        integral_limit=values.get("integral_limit") or 0.25,
        idle=values.get("idle") or 0.0,
        output_rate_hz=values.get("output_rate_hz"),
        stick_rates=rates,
    )


def _si_values(settings: Sequence[Setting], names: NameMap) -> dict[str, float]:
    values: dict[str, float] = {}
    for setting in settings:
        meaning = names.get(setting.name)
        if meaning is None or meaning.scale is None or meaning.key in ("other", "trim"):
            continue
        shown = number(setting.value)
        if shown is None or shown < 0 or shown != shown or shown > 1e9:
            raise InputError(
                f"“{setting.name} = {setting.value}” should be a number of 0 or more: it stands for {MEANINGS[meaning.key]}"
            )
        values[meaning.key] = shown * meaning.scale
    return values


def _low_passes(values: dict[str, float], place: str) -> tuple[Filter, ...]:
    found = []
    for slot, kind in (("low_1", "lowpass_1"), ("low", "lowpass_2")):
        if cutoff_hz := values.get(f"filter.{place}.{slot}.cutoff_hz"):
            found.append(Filter(kind=kind, frequency_hz=cutoff_hz))
    return tuple(found)


def _notches(values: dict[str, float]) -> tuple[Filter, ...]:
    found = []
    for slot in ("notch", "notch_2"):
        if centre_hz := values.get(f"filter.gyro.{slot}.centre_hz"):
            found.append(Filter(kind="notch", frequency_hz=centre_hz, q=values.get(f"filter.gyro.{slot}.q") or 3.0))
    if n_orders := int(values.get("filter.gyro.rotor.orders") or 0):
        lowest_hz = values.get("filter.gyro.rotor.lowest_hz") or 70.0
        q = values.get("filter.gyro.rotor.q") or 4.0
        found.append(Filter(kind="rotor_notch", frequency_hz=lowest_hz, q=q, orders=tuple(range(1, n_orders + 1)), blend_hz=20.0))
    return tuple(found)


def _rates(values: dict[str, float], axis: str) -> tuple[tuple[float, float], ...]:
    full_dps = values[f"rates.{axis}.full_dps"]
    half_dps = values.get(f"rates.{axis}.half_dps") or full_dps * 0.3
    if half_dps > full_dps:
        raise InputError(f"{axis}: the stick rate at half stick ({half_dps:g}) is above the one at full stick ({full_dps:g})")
    return ((0.0, 0.0), (0.5, half_dps), (1.0, full_dps))


_FREQUENCY_KEYS = {"notch": "centre_hz", "rotor_notch": "lowest_hz"}
_CHAINS = ("chip", "gyro", "d_term", "feed_forward", "setpoint")


ShownGains = dict[str, dict[str, float]]  # axis → term → the number that the tuner sees


def gains_of_json(document: dict[str, Any]) -> tuple[ShownGains, Controller | None]:
    """The numbers of a `nembrit.configuration/1` document, and the controller where they are in SI units.

    Raises InputError for what is no configuration.
    """
    if document.get("schema") != "nembrit.configuration/1":
        raise InputError('expected a configuration with "schema": "nembrit.configuration/1"')
    try:
        shown = {
            axis: {term: within(value, f"gain {term} of {axis}", 0, 1e9) for term, value in document["gains"][axis].items()}
            for axis in AXES
            if axis in document.get("gains", {})
        }
    except (TypeError, AttributeError) as error:
        raise InputError(f"the gains are not complete: {error}") from None
    return shown, controller_from_json(document) if document.get("gain_units", "shown") == "si" else None


def controller_from_json(document: dict[str, Any]) -> Controller:
    """Read a `nembrit.configuration/1` document with gains in SI units; raises InputError for what it lacks."""
    if document.get("schema") != "nembrit.configuration/1":
        raise InputError('expected a configuration with "schema": "nembrit.configuration/1"')
    if document.get("gain_units", "shown") != "si":
        raise InputError('the simulator needs gains in SI units: "gain_units": "si"')
    return _from_json(document, has_gains=True)


def chains_from_json(document: dict[str, Any]) -> Controller:
    """The filters of a `nembrit.configuration/1` document; with its gains where they are in SI units."""
    return _from_json(document, has_gains=document.get("gain_units", "shown") == "si")


def with_chains(flown: Controller, filters: dict[str, Any]) -> Controller:
    """A controller with the chains of a CHAIN.json: the `filters` part of a configuration; places not named stay."""
    try:
        found: dict[str, Any] = {
            place: tuple(_filter_from_json(entry) for entry in filters[place]) for place in _CHAINS if place in filters
        }
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError(f"the chain is not complete: {error}") from None
    unknown = set(filters) - {*_CHAINS, "schema"}
    if unknown or not found:
        raise InputError(f"a chain has the places {', '.join(_CHAINS)}, not {', '.join(sorted(unknown)) or 'none of them'}")
    return replace(flown, **found)


def _from_json(document: dict[str, Any], *, has_gains: bool) -> Controller:
    try:
        gains = {
            axis: AxisGains(**{k: within(v, f"gain {k} of {axis}", 0, 1e6) for k, v in document["gains"][axis].items()})
            for axis in AXES
            if has_gains
        }
        chains: dict[str, Any] = {
            place: tuple(_filter_from_json(entry) for entry in document.get("filters", {}).get(place, ())) for place in _CHAINS
        }
        rates = {
            axis: tuple((within(stick, "a stick", -1, 1), within(rate, "a rate in deg/s", -1e5, 1e5)) for stick, rate in points)
            for axis, points in document.get("stick_rates", {}).items()
        }
        optional: dict[str, Any] = {
            key: within(document[key], key, 0, 1e6)
            for key in ("output_limit", "integral_limit", "idle", "output_rate_hz")
            if document.get(key) is not None
        }
        loop_rate_hz = within(document["loop_rate_hz"], "loop_rate_hz", 50, 100_000)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError(f"the configuration is not complete: {error}") from None
    return Controller(loop_rate_hz=loop_rate_hz, gains=gains, stick_rates=rates, **chains, **optional)


def _filter_from_json(entry: dict[str, Any]) -> Filter:
    kind = str(entry["kind"])
    return Filter(
        kind=kind,
        frequency_hz=within(entry[_FREQUENCY_KEYS.get(kind, "cutoff_hz")], f"the frequency of a {kind} in Hz", 0.01, 100_000),
        q=within(entry.get("q", 0.7071), f"the q of a {kind}", 0.01, 1000),
        discretisation=str(entry.get("discretisation", "bilinear")),
        orders=tuple(int(order) for order in entry.get("orders", ())),
        blend_hz=float(entry.get("blend_hz", 0.0)),
    )


def controller_to_json(controller: Controller) -> dict[str, Any]:
    """The `nembrit.configuration/1` document that `controller_from_json` reads back identically."""
    document: dict[str, Any] = {
        "schema": "nembrit.configuration/1",
        "loop_rate_hz": controller.loop_rate_hz,
        "gain_units": "si",
        "gains": {axis: {"p": gains.p, "i": gains.i, "d": gains.d, "f": gains.f} for axis, gains in controller.gains.items()},
        "filters": {place: [_filter_to_json(entry) for entry in getattr(controller, place)] for place in _CHAINS},
        "output_limit": controller.output_limit,
        "integral_limit": controller.integral_limit,
        "idle": controller.idle,
        "stick_rates": {axis: [list(point) for point in points] for axis, points in controller.stick_rates.items()},
    }
    if controller.output_rate_hz:
        document["output_rate_hz"] = controller.output_rate_hz
    return document


def _filter_to_json(entry: Filter) -> dict[str, Any]:
    document: dict[str, Any] = {
        "kind": entry.kind,
        _FREQUENCY_KEYS.get(entry.kind, "cutoff_hz"): entry.frequency_hz,
        "q": entry.q,
    }
    if entry.kind == "lowpass_1":
        document["discretisation"] = entry.discretisation
    if entry.kind == "rotor_notch":
        document |= {"orders": list(entry.orders), "blend_hz": entry.blend_hz}
    return document
