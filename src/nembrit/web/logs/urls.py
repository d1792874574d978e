from django.urls import path
from django.views.generic import RedirectView

from nembrit.web.logs.views import log, traces, video

app_name = "logs"
urlpatterns = [
    path("logs/<int:log_id>/", log.log_page, name="log"),
    path("logs/<int:log_id>/manoeuvre/", log.manoeuvre, name="manoeuvre"),
    path("logs/<int:log_id>/settings/", log.log_settings, name="log_settings"),
    path("logs/<int:log_id>/split/", log.log_split, name="log_split"),
    path("logs/<int:log_id>/export/", traces.give_out, name="give"),
    path("logs/<int:log_id>/trace/", traces.log_trace, name="log_trace"),
    path("segments/<int:segment_id>/window/", log.window, name="window"),
    path("segments/<int:segment_id>/alignment/", log.log_alignment, name="alignment"),
    path("<flight:flight_id>/traces/", traces.trace_page, name="trace_page"),
    path("<flight:flight_id>/trace/", traces.trace_data, name="trace_data"),
    path("<flight:flight_id>/video/", video.sync, name="video_sync"),
    path("<flight:flight_id>/mark/", video.mark, name="mark"),
    path("<flight:flight_id>/spectrum/", traces.spectrum, name="spectrum"),
    path("<flight:flight_id>/measures/", traces.measures, name="measures"),
    path("<flight:flight_id>/track/", traces.track, name="track"),
    path("<flight:flight_id>/aligned/", log.flights_aligned, name="aligned"),
    path("logs/<int:log_id>/give/", RedirectView.as_view(pattern_name="logs:give", permanent=True)),  # as it was called before
]
