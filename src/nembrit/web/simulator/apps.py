from django.apps import AppConfig


class SimulatorConfig(AppConfig):
    name = "nembrit.web.simulator"
    label = "simulator"

    def ready(self) -> None:
        from nembrit.web.simulator import services  # noqa: F401 (registers its job)
