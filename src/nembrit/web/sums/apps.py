from django.apps import AppConfig


class SumsConfig(AppConfig):
    name = "nembrit.web.sums"
    label = "sums"
