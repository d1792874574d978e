from django.apps import AppConfig


class HangarConfig(AppConfig):
    name = "nembrit.web.hangar"
    label = "hangar"
