from django.apps import AppConfig


class TunesConfig(AppConfig):
    name = "nembrit.web.tunes"
    label = "tunes"
