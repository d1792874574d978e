from django.apps import AppConfig


class CommonConfig(AppConfig):
    name = "nembrit.web.common"
    label = "common"

    def ready(self) -> None:
        from nembrit.web.common import backup  # noqa: F401 (registers its job)
