from django.apps import AppConfig


class FlightsConfig(AppConfig):
    name = "nembrit.web.flights"
    label = "flights"
