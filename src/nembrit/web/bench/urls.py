from django.urls import path

from nembrit.web.bench.views import checks as check_views
from nembrit.web.bench.views import choosing, flight, motors, noise, response, sensors, wing
from nembrit.web.bench.views import path as path_views

app_name = "bench"
urlpatterns = [
    path("<flight:flight_id>/", flight.flight_page, name="flight"),
    path("<flight:flight_id>/noise/", noise.noise_page, name="noise"),
    path("<flight:flight_id>/noise/map.json", noise.noise_map, name="noise_map"),
    path("<flight:flight_id>/noise/spectrum.json", noise.noise_spectrum, name="noise_spectrum"),
    path("<flight:flight_id>/vibration/", motors.motors_page, name="motors"),
    path("<flight:flight_id>/response/", response.response_page, name="response"),
    path("<flight:flight_id>/filters/", choosing.filters_page, name="filters"),
    path("<flight:flight_id>/filters/map.json", choosing.filters_map, name="filters_map"),
    path("<flight:flight_id>/filters/trade/", choosing.trade_part, name="trade"),
    path("<flight:flight_id>/gains/", choosing.gains_page, name="gains"),
    path("<flight:flight_id>/gains/best/", choosing.best_part, name="best"),
    path("<flight:flight_id>/wing/", wing.wing_page, name="wing"),
    path("<flight:flight_id>/path/", path_views.path_page, name="path"),
    path("<flight:flight_id>/path/map.json", path_views.map_json, name="path_map"),
    path("<flight:flight_id>/path/<str:kind>.json", path_views.trace_json, name="trace"),
    path("<flight:flight_id>/return/", path_views.return_page, name="return"),
    path("craft/<int:craft_id>/checks/", check_views.checks_page, name="checks"),
    path("craft/<int:craft_id>/checks/<str:key>/", check_views.check_page, name="check"),
    path("craft/<int:craft_id>/returns/", path_views.returns_page, name="returns"),
    path("<flight:flight_id>/sensors/", sensors.sensors_page, name="sensors"),
    path("<flight:flight_id>/sensors/allan.json", sensors.allan, name="allan"),
    path("<flight:flight_id>/charts/<str:kind>/<str:axis>.json", flight.flight_chart, name="flight_chart"),
]
