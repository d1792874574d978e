from django.apps import AppConfig


class ArchiveConfig(AppConfig):
    name = "nembrit.web.archive"
    label = "archive"
