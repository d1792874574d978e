from django.urls import path

from nembrit.web.logs import desk_views, trace_views, views

app_name = "logs"
urlpatterns = [
    path("inbox/", views.inbox_page, name="inbox"),
    path("craft/<int:craft_id>/logs/attach/", views.attach, name="attach"),
    path("craft/<int:craft_id>/simulator/", views.simulator, name="simulator"),
    path("logs/<int:log_id>/", desk_views.log_page, name="log"),
    path("logs/<int:log_id>/meanings/", desk_views.meanings_page, name="meanings"),
    path("logs/<int:log_id>/meanings/fellows/", desk_views.meanings_fellows, name="meanings_fellows"),
    path("logs/<int:log_id>/reread/", desk_views.log_reread, name="log_reread"),
    path("logs/<int:log_id>/manoeuvre/", desk_views.manoeuvre, name="manoeuvre"),
    path("logs/<int:log_id>/upload/remove/", desk_views.upload_remove, name="upload_remove"),
    path("logs/<int:log_id>/settings/", desk_views.log_settings, name="log_settings"),
    path("logs/<int:log_id>/split/", desk_views.log_split, name="log_split"),
    path("logs/<int:log_id>/move/", views.log_move, name="log_move"),
    path("logs/<int:log_id>/archive/", views.log_archive, name="log_archive"),
    path("logs/<int:log_id>/remove/", views.refused_remove, name="refused_remove"),
    path("logs/<int:log_id>/give/", trace_views.give_out, name="give"),
    path("logs/<int:log_id>/trace/", trace_views.log_trace, name="log_trace"),
    path("segments/<int:segment_id>/window/", desk_views.window, name="window"),
    path("segments/<int:segment_id>/alignment/", desk_views.alignment, name="alignment"),
    path("import-profiles/", desk_views.profiles, name="profiles"),
    path("flights/<int:flight_id>/traces/", trace_views.trace_page, name="trace_page"),
    path("flights/<int:flight_id>/trace/", trace_views.trace_data, name="trace_data"),
    path("flights/<int:flight_id>/spectrum/", trace_views.spectrum, name="spectrum"),
    path("flights/<int:flight_id>/measures/", trace_views.measures, name="measures"),
    path("flights/<int:flight_id>/track/", trace_views.track, name="track"),
    path("flights/<int:flight_id>/aligned/", desk_views.flights_aligned, name="aligned"),
]
