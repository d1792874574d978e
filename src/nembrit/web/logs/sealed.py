"""Flights of a blind trial: until it is revealed no page shows anything of them."""

from typing import Any

from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import render
from django.urls import reverse

from nembrit.web.common.middleware import Next
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Log

_MAY_BE_ANSWERED = ("meanings", "meanings_fellows", "log_reread", "refused_remove")


# every address names what it is about so (a test looks at the whole table of addresses)
_ABOUT = {"flight_id": "pk", "log_id": "segments__log", "segment_id": "segments", "recording_id": "recordings"}


def sealed_flight(kwargs: dict[str, Any]) -> Flight | None:
    """The sealed flight that an address is about: by the flight, its log or its part of a log."""
    word = next((word for word in _ABOUT if word in kwargs), None)
    return _sealed(_ABOUT[word], kwargs[word]) if word else None


@while_unchanged
def _sealed(field: str, row: int) -> Flight | None:
    return Flight.objects.filter(is_sealed=True, **{field: row}).select_related("craft").first()


class SealedFlights:
    """Stands before every view: what it shows of a sealed flight would tell its arm, and a tuner alone would look."""

    def __init__(self, get_response: Next) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self.get_response(request)

    def process_view(self, request: HttpRequest, view: Any, args: tuple[Any, ...], kwargs: dict[str, Any]) -> HttpResponse | None:
        if not kwargs.keys() & _ABOUT.keys():
            return None
        flight = sealed_flight(kwargs)
        if flight is None and not self._waits(request, kwargs):
            return None
        craft = flight.craft if flight else Log.objects.get(pk=kwargs["log_id"]).craft
        detail = (
            "This flight belongs to a blind comparison that is not revealed yet. Everything is saved and shown after the reveal."
        )
        context = {"title": "Sealed", "detail": detail}
        if craft is not None:
            context["back"] = reverse("tunes:experiments", args=[craft.pk])
        return render(request, "common/error.html", context, status=403)

    @staticmethod
    def _waits(request: HttpRequest, kwargs: dict[str, Any]) -> bool:
        """A log on its way to a sealed flight; only what its columns mean may be answered."""
        if "log_id" not in kwargs or (request.resolver_match and request.resolver_match.url_name in _MAY_BE_ANSWERED):
            return False
        noted = Log.objects.filter(pk=kwargs["log_id"], segments=None).values_list("request", flat=True).first() or {}
        return bool(noted.get("flight", {}).get("is_sealed"))
