"""What the trace page sends while a video is watched: how it lines up, marks."""

import json
from typing import Any

from django.http import HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from nembrit.core.errors import CoreError, InputError
from nembrit.web.flights.models import Flight
from nembrit.web.logs import video

_MOST_BYTES = 20_000


@require_POST
def sync(request: HttpRequest, flight_id: int) -> JsonResponse:
    """Keep how a video lines up with this flight."""
    flight = get_object_or_404(Flight, pk=flight_id)
    return _answered(lambda: video.save_sync(flight, _document(request)))


@require_POST
def mark(request: HttpRequest, flight_id: int) -> JsonResponse:
    """Mark a moment of this flight, or forget a mark."""
    flight = get_object_or_404(Flight, pk=flight_id)

    def work() -> dict[str, Any]:
        document = _document(request)
        if (known := document.get("remove")) is not None:
            video.remove_mark(flight, known if isinstance(known, int) else 0)
            return {}
        return video.add_mark(flight, document)

    return _answered(work)


def _document(request: HttpRequest) -> dict[str, Any]:
    if len(request.body) > _MOST_BYTES:
        raise InputError("too much at once")
    try:
        found = json.loads(request.body)
    except ValueError:
        raise InputError("this is not JSON") from None
    if not isinstance(found, dict):
        raise InputError("this is not JSON of the expected form")
    return found


def _answered(work: Any) -> JsonResponse:
    try:
        return JsonResponse(work())
    except CoreError as error:
        return JsonResponse({"error": str(error)}, status=400)
