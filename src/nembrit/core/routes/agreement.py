"""What was felt against what the log shows, and which of the two to trust."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.response.estimate import Estimate
from nembrit.core.routes.stepup import CLEAN

_GOOD_PEAK, _LOW_PEAK = 1.6, 2.0  # of the sensitivity peak: good up to the first, low margin from the second on


@dataclass(frozen=True, slots=True, kw_only=True)
class Agreement:
    """`word`: confirmed, contradicted or open; `trust`: log, feel or both."""

    word: str
    trust: str
    sentence: str

    @property
    def log_word(self) -> str:
        """What the log does, as the end of “The log of flight 7 …”."""
        return {"confirmed": "confirms it", "contradicted": "contradicts it"}.get(self.word, "leaves it open")


def agreement(sign: str | None, axis: str, peak: Estimate | None, oscillations_hz: Sequence[float]) -> Agreement | None:
    """Hold a felt sign against the log of the same flight.

    Parameters
    ----------
    sign : str or None
        A key of `stepup.SIGNS`; None while nothing was answered.
    axis : str
        The axis whose value was raised.
    peak : Estimate or None
        Sensitivity peak of that axis; None where the flight did not measure it.
    oscillations_hz : sequence of float
        Frequencies [Hz] at which the log shows an oscillation of that axis.

    Notes
    -----
    A log sees an oscillation before hands feel it, so it overrules a clean feel. Heat and sound are not in it, so a bad sign
    stands even where margins are good; then the cause is rather noise or mechanics (common practice, no source). None where the
    log says nothing.
    """
    if oscillations_hz:
        told = f"the log shows {axis} oscillating at {oscillations_hz[0]:.0f} Hz"
    elif peak is not None and peak.low > _LOW_PEAK:
        told = f"the log shows a low margin of {axis}: sensitivity peak {peak.value:.2f} ({peak.low:.2f} to {peak.high:.2f})"
    elif peak is not None and peak.high <= _GOOD_PEAK:
        good = f"The log shows a good margin of {axis}: sensitivity peak {peak.value:.2f} ({peak.low:.2f} to {peak.high:.2f})"
        if sign is None or sign == CLEAN:
            return Agreement(word="confirmed", trust="both", sentence=f"{good}.")
        return Agreement(
            word="contradicted", trust="feel",
            sentence=f"{good}. Trust what you felt: heat and sound are not in the log. Look for noise or a loose part.",
        )  # fmt: skip
    elif peak is not None:
        return Agreement(
            word="open", trust="feel",
            sentence=f"The log leaves {axis} open: sensitivity peak {peak.value:.2f} ({peak.low:.2f} to {peak.high:.2f}).",
        )  # fmt: skip
    else:
        return None
    if sign is not None and sign != CLEAN:
        return Agreement(word="confirmed", trust="both", sentence=f"{told[:1].upper()}{told[1:]}. It confirms what you felt.")
    return Agreement(
        word="contradicted", trust="log",
        sentence=f"{told[:1].upper()}{told[1:]}. Trust the log: it shows an oscillation before you feel it.",
    )  # fmt: skip
