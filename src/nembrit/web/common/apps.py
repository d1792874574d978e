from django.apps import AppConfig


class CommonConfig(AppConfig):
    name = "nembrit.web.common"
    label = "common"
