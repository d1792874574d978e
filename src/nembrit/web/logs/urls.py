from django.urls import path

from nembrit.web.logs import views

app_name = "logs"
urlpatterns = [
    path("craft/<int:craft_id>/logs/attach/", views.attach, name="attach"),
    path("craft/<int:craft_id>/simulator/", views.simulator, name="simulator"),
    path("logs/<int:log_id>/remove/", views.refused_remove, name="refused_remove"),
    path("flights/<int:flight_id>/traces/", views.trace_page, name="trace_page"),
    path("logs/<int:log_id>/trace/", views.trace_data, name="trace_data"),
]
