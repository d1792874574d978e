"""Filter sections against the cookbook's values and scipy."""

import numpy as np
import pytest
import scipy.signal

from nembrit.core.errors import InputError
from nembrit.core.filters.chain import chain_response, chain_sos, dc_delay_s
from nembrit.core.filters.sections import FilterSection, section_sos


# R. Bristow-Johnson, "Audio EQ Cookbook"; digits reproduced with scipy (docs/methods.md)
@pytest.mark.parametrize(
    ("kind", "frequency_hz", "q", "rate_hz", "b", "a"),
    [
        ("lowpass_2", 100, 0.70710678, 1000, (0.06745527, 0.13491055, 0.06745527), (1, -1.1429805, 0.4128016)),
        ("lowpass_2", 90, 0.70710678, 8000, (0.00118921, 0.00237842, 0.00118921), (1, -1.90011242, 0.90486927)),
        ("notch", 200, 5, 8000, (0.9845975, -1.94495095, 0.9845975), (1, -1.94495095, 0.969195)),
        ("notch", 60, 10, 1000, (0.98192644, -1.82594423, 0.98192644), (1, -1.82594423, 0.96385288)),
    ],
)
def test_cookbook_sections(kind: str, frequency_hz: float, q: float, rate_hz: float, b: tuple, a: tuple) -> None:
    sos = section_sos(FilterSection(kind=kind, frequency_hz=frequency_hz, q=q), sample_rate_hz=rate_hz)
    np.testing.assert_allclose(sos, [*b, *a], atol=5e-8)  # half the last printed digit, and q to eight


@pytest.mark.parametrize("cutoff_hz", [20.0, 117.0, 400.0])
def test_low_passes_are_scipy_s_butterworth(cutoff_hz: float) -> None:
    for kind, order in (("lowpass_1", 1), ("lowpass_2", 2)):
        sos = section_sos(FilterSection(kind=kind, frequency_hz=cutoff_hz, q=np.sqrt(0.5)), sample_rate_hz=2000)
        np.testing.assert_allclose(sos, scipy.signal.butter(order, cutoff_hz, fs=2000, output="sos")[0], atol=1e-12)


# first-order smoother y += a (x − y), a = dt/(dt + RC): closed form, DC delay exactly RC
@pytest.mark.parametrize(("rate_hz", "gain", "minus_3_db_hz"), [(1000, 0.3858695, 79.18), (8000, 0.0728205, 96.31)])
def test_backward_euler_smoother(rate_hz: float, gain: float, minus_3_db_hz: float) -> None:
    section = FilterSection(kind="lowpass_1", frequency_hz=100, discretisation="backward_euler")
    sos = section_sos(section, sample_rate_hz=rate_hz)
    assert sos[0] == pytest.approx(gain, abs=5e-8)
    assert abs(chain_response(sos[None], np.array([minus_3_db_hz]), sample_rate_hz=rate_hz)[0]) == pytest.approx(
        np.sqrt(0.5), abs=2e-5
    )
    assert dc_delay_s(sos[None], sample_rate_hz=rate_hz) == pytest.approx(1 / (2 * np.pi * 100))


# digital second-order Butterworth: √2 / (2 rate tan(π f / rate)); closed form, agrees with scipy.signal.group_delay
@pytest.mark.parametrize(("rate_hz", "delay_ms"), [(8000, 2.249634), (1000, 2.176251)])
def test_dc_delay_of_a_butterworth(rate_hz: float, delay_ms: float) -> None:
    sos = chain_sos([FilterSection(kind="lowpass_2", frequency_hz=100, q=np.sqrt(0.5))], sample_rate_hz=rate_hz)
    assert dc_delay_s(sos, sample_rate_hz=rate_hz) * 1000 == pytest.approx(delay_ms, abs=5e-7)


def test_chain_response_is_scipy_s() -> None:
    sections = [FilterSection(kind="lowpass_2", frequency_hz=180), FilterSection(kind="notch", frequency_hz=240, q=3)]
    sos, frequency_hz = chain_sos(sections, sample_rate_hz=4000), np.linspace(1, 1999, 50)
    np.testing.assert_allclose(
        chain_response(sos, frequency_hz, sample_rate_hz=4000), scipy.signal.sosfreqz(sos, frequency_hz, fs=4000)[1], atol=1e-12
    )
    assert chain_sos([], sample_rate_hz=4000).shape == (0, 6)


@pytest.mark.parametrize(
    ("section", "message"),
    [
        ({"kind": "notch", "frequency_hz": 1200}, r"between 0 and 1000 Hz \(half the sample rate\), got 1200 Hz"),
        ({"kind": "lowpass_1", "frequency_hz": 0}, "got 0 Hz"),
        ({"kind": "lowpass_2", "frequency_hz": 50, "q": 0}, "q must be above 0"),
        ({"kind": "comb", "frequency_hz": 50}, "is not a kind of filter"),
        ({"kind": "lowpass_1", "frequency_hz": 50, "discretisation": "forward"}, "is no discretisation"),
    ],
)
def test_impossible_sections_say_where_the_limits_are(section: dict, message: str) -> None:
    with pytest.raises(InputError, match=message):
        section_sos(FilterSection(**section), sample_rate_hz=2000)
