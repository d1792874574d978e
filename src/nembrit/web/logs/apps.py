from django.apps import AppConfig


class LogsConfig(AppConfig):
    name = "nembrit.web.logs"
    label = "logs"

    def ready(self) -> None:
        from nembrit.web.logs import services, simulator  # noqa: F401 (registers the jobs)
