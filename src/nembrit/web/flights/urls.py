from django.urls import path

from nembrit.web.flights import views

app_name = "flights"
urlpatterns = [
    path("cards/", views.card_list, name="card_list"),
    path("cards/<str:key>/", views.card, name="card"),
    path("<flight:flight_id>/edit/", views.flight_edit, name="flight_edit"),
    path("<flight:flight_id>/archive/", views.flight_archive, name="flight_archive"),
    path("flights/<int:key>/", views.former_address, name="former"),
    path("flights/<int:key>/<path:rest>", views.former_address, name="former_part"),
]
