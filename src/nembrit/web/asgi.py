"""The application that the server runs."""

import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nembrit.web.settings")
django.setup(set_prefix=False)

from nembrit.web.common.door import Door  # noqa: E402 - needs the settings

application = Door()
