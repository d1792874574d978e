from django.apps import AppConfig


class PlanningConfig(AppConfig):
    name = "nembrit.web.planning"
    label = "planning"
