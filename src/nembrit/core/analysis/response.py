"""How the craft follows a step of the stick."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.response.step import StepResponse
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Response:
    """Step responses by axis; what could not be estimated stands in `reasons`."""

    steps: dict[str, StepResponse]
    reasons: dict[str, str]
    notes: tuple[str, ...] = ()


def _run(flight: Flight) -> Response:
    steps = dict(flight.steps)
    reasons = {axis: reason for axis in AXES if (reason := flight.reasons.get(f"response.{axis}"))}
    return Response(steps=steps, reasons=reasons, notes=flight.mask_notes)


RESPONSE = Analysis(key="response", version=2, result=Response, run=_run, in_words="how it follows the stick")
