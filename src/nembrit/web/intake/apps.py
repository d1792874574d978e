from django.apps import AppConfig


class IntakeConfig(AppConfig):
    name = "nembrit.web.intake"
    label = "intake"

    def ready(self) -> None:
        from nembrit.web.intake import services  # noqa: F401 (registers its jobs)
