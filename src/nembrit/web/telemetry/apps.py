from django.apps import AppConfig


class TelemetryConfig(AppConfig):
    name = "nembrit.web.telemetry"
    label = "telemetry"
