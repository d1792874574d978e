from django.urls import path

from nembrit.web.bench import noise_views, views

app_name = "bench"
urlpatterns = [
    path("flights/<int:flight_id>/", views.flight, name="flight"),
    path("flights/<int:flight_id>/noise/", noise_views.noise_page, name="noise"),
    path("flights/<int:flight_id>/noise/map.json", noise_views.noise_map, name="noise_map"),
    path("flights/<int:flight_id>/noise/spectrum.json", noise_views.noise_spectrum, name="noise_spectrum"),
    path("flights/<int:flight_id>/vibration/", noise_views.vibration_page, name="vibration"),
    path("flights/<int:flight_id>/sensors/", noise_views.sensors_page, name="sensors"),
    path("flights/<int:flight_id>/sensors/allan.json", noise_views.allan, name="allan"),
    path("flights/<int:flight_id>/charts/<str:kind>/<str:axis>.json", views.flight_chart, name="flight_chart"),
]
