from django.urls import path

from nembrit.web.telemetry import views

app_name = "telemetry"
urlpatterns = [
    path("craft/<int:craft_id>/live/", views.live, name="live"),
    path("craft/<int:craft_id>/live/stream/", views.stream, name="stream"),
    path("craft/<int:craft_id>/live/begin/", views.begin, name="begin"),
    path("craft/<int:craft_id>/live/end/", views.end, name="end"),
    path("craft/<int:craft_id>/live/mark/", views.mark, name="mark"),
    path("craft/<int:craft_id>/live/acknowledge/", views.acknowledge, name="acknowledge"),
    path("craft/<int:craft_id>/live/source/", views.source, name="source"),
    path("craft/<int:craft_id>/live/columns/", views.columns, name="columns"),
    path("craft/<int:craft_id>/live/alarms/", views.alarms, name="alarms"),
    path("craft/<int:craft_id>/live/stand-in/", views.stand_in, name="stand_in"),
    path("craft/<int:craft_id>/link/", views.link_page, name="link"),
    path("recordings/<int:recording_id>/", views.recording, name="recording"),
    path("recordings/<int:recording_id>/join/", views.join, name="join"),
]
