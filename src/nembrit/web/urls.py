"""Addresses of the workshop."""

from django.urls import include, path, register_converter

from nembrit.web.flights.address import FlightAddress

register_converter(FlightAddress, "flight")

urlpatterns = [
    path("", include("nembrit.web.hangar.urls")),
    path("", include("nembrit.web.common.urls")),
    path("", include("nembrit.web.ground.urls")),
    path("", include("nembrit.web.flights.urls")),
    path("", include("nembrit.web.logs.urls")),
    path("", include("nembrit.web.intake.urls")),
    path("", include("nembrit.web.simulator.urls")),
    path("", include("nembrit.web.bench.urls")),
    path("", include("nembrit.web.packs.urls")),
    path("", include("nembrit.web.planning.urls")),
    path("", include("nembrit.web.sums.urls")),
    path("", include("nembrit.web.tunes.urls")),
    path("", include("nembrit.web.telemetry.urls")),
    path("", include("nembrit.web.archive.urls")),
]

handler400 = "nembrit.web.common.views.pages.bad_request"
handler403 = "nembrit.web.common.views.pages.forbidden"
handler404 = "nembrit.web.common.views.pages.not_found"
handler500 = "nembrit.web.common.views.pages.server_error"
