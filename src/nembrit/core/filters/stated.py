"""Chains as a configuration states them: their response, what they delay, and notches that follow the motors."""

from collections.abc import Sequence

import numpy as np

from nembrit.core.filters.chain import chain_response, chain_sos, dc_delay_s
from nembrit.core.filters.sections import FilterSection
from nembrit.core.setup.controller import Filter
from nembrit.core.types import ComplexArray, FloatArray

_HIGHEST_SHARE = 0.45  # of the loop rate: motors' orders beyond it are left alone


def fixed_response(filters: Sequence[Filter], frequency_hz: FloatArray, rate_hz: float) -> ComplexArray:
    """Response of a chain's fixed filters at the given frequencies; those that follow the motors are left out."""
    return chain_response(_sos(_sections(filters), rate_hz), frequency_hz, sample_rate_hz=rate_hz)


def rotor_response(
    filters: Sequence[Filter], frequency_hz: FloatArray, rate_hz: float, rotor_hz: Sequence[float] | FloatArray
) -> ComplexArray:
    """Response of the notches that follow motors turning at `rotor_hz` (n_motors,): one for each motor and order.

    Each is faded in above its lowest frequency over its blend, as the controller does it.
    """
    response = np.ones(frequency_hz.size, complex)
    for section, share in _rotor_sections(filters, rate_hz, rotor_hz):
        notch = chain_response(_sos([section], rate_hz), frequency_hz, sample_rate_hz=rate_hz)
        response *= share * notch + (1 - share)
    return response


def whole_response(
    filters: Sequence[Filter], frequency_hz: FloatArray, rate_hz: float, rotor_hz: Sequence[float] | FloatArray = ()
) -> ComplexArray:
    """Fixed filters and those that follow the motors together."""
    return fixed_response(filters, frequency_hz, rate_hz) * rotor_response(filters, frequency_hz, rate_hz, rotor_hz)


def stated_delay_s(filters: Sequence[Filter], rate_hz: float, rotor_hz: Sequence[float] | FloatArray = ()) -> float:
    """Group delay at 0 Hz [s] of a chain, motors turning at `rotor_hz`: what it costs slow movements.

    >>> 1000 * round(stated_delay_s([Filter(kind="lowpass_2", frequency_hz=100)], 8000), 6)
    2.25
    """
    fixed = dc_delay_s(_sos(_sections(filters), rate_hz), sample_rate_hz=rate_hz)
    # around 0 Hz a notch passes everything: a share of it delays by that share
    turning = (
        share * dc_delay_s(_sos([one], rate_hz), sample_rate_hz=rate_hz)
        for one, share in _rotor_sections(filters, rate_hz, rotor_hz)
    )
    return fixed + sum(turning)


def lag_deg(filters: Sequence[Filter], at_hz: float, rate_hz: float, rotor_hz: Sequence[float] | FloatArray = ()) -> float:
    """How far a chain turns the phase back at one frequency [°], counted from 0 Hz."""
    along = np.linspace(0.01, at_hz, 64)
    return float(-np.degrees(np.unwrap(np.angle(whole_response(filters, along, rate_hz, rotor_hz)))[-1]))


def _sections(filters: Sequence[Filter]) -> list[FilterSection]:
    return [
        FilterSection(kind=one.kind, frequency_hz=one.frequency_hz, q=one.q, discretisation=one.discretisation)
        for one in filters
        if one.kind != "rotor_notch"
    ]


def _sos(sections: Sequence[FilterSection], rate_hz: float) -> FloatArray:
    return chain_sos(sections, sample_rate_hz=rate_hz)


def _rotor_sections(
    filters: Sequence[Filter], rate_hz: float, rotor_hz: Sequence[float] | FloatArray
) -> list[tuple[FilterSection, float]]:
    found = []
    for one in filters:
        if one.kind != "rotor_notch":
            continue
        for order in one.orders:
            for turning_hz in rotor_hz:
                centre_hz = order * float(turning_hz)
                share = min(1.0, max(0.0, (centre_hz - one.frequency_hz) / max(1.0, one.blend_hz)))
                if share > 0 and centre_hz <= _HIGHEST_SHARE * rate_hz:
                    found.append((FilterSection(kind="notch", frequency_hz=centre_hz, q=one.q), share))
    return found
