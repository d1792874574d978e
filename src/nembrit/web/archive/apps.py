from django.apps import AppConfig


class ArchiveConfig(AppConfig):
    name = "nembrit.web.archive"
    label = "archive"

    def ready(self) -> None:
        from nembrit.web.archive import exports  # noqa: F401 (registers its jobs)
