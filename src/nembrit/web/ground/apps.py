from django.apps import AppConfig


class GroundConfig(AppConfig):
    """What stands on the ground, and how it rises."""

    name = "nembrit.web.ground"
    label = "ground"
