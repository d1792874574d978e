from django.apps import AppConfig


class LogsConfig(AppConfig):
    name = "nembrit.web.logs"
    label = "logs"
