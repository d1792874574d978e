from django.urls import path

from nembrit.web.flights.views import cards, field, flight

app_name = "flights"
urlpatterns = [
    path("cards/", cards.card_list, name="card_list"),
    path("cards/new/", cards.compose, name="compose"),
    path("cards/<int:card_id>/away/", cards.card_away, name="card_away"),
    path("cards/<str:key>/", cards.card, name="card"),
    path("<flight:flight_id>/edit/", flight.flight_edit, name="flight_edit"),
    path("<flight:flight_id>/archive/", flight.flight_archive, name="flight_archive"),
    path("craft/<int:craft_id>/field/", field.preflight, name="preflight"),
    path("field/<int:outing_id>/", field.fly, name="field"),
    path("field/<int:outing_id>/taps/", field.taps, name="taps"),
    path("<flight:flight_id>/outing/", field.give, name="give_outing"),
    path("flights/<int:key>/", flight.former_address, name="former"),
    path("flights/<int:key>/<path:rest>", flight.former_address, name="former_part"),
]
