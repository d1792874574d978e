from django.urls import path

from nembrit.web.bench import views

app_name = "bench"
urlpatterns = [
    path("flights/<int:flight_id>/", views.flight, name="flight"),
    path("flights/<int:flight_id>/charts/<str:kind>/<str:axis>.json", views.flight_chart, name="flight_chart"),
]
