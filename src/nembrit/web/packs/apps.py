from django.apps import AppConfig


class PacksConfig(AppConfig):
    name = "nembrit.web.packs"
    label = "packs"
