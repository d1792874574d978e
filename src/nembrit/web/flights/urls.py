from django.urls import path

from nembrit.web.flights import views

app_name = "flights"
urlpatterns = [
    path("cards/", views.card_list, name="card_list"),
    path("cards/<str:key>/", views.card, name="card"),
    path("flights/<int:flight_id>/edit/", views.flight_edit, name="flight_edit"),
    path("flights/<int:flight_id>/archive/", views.flight_archive, name="flight_archive"),
]
