"""What tests of every folder share: the workshop's file laid out as the server does it."""

from pathlib import Path

import pytest


@pytest.fixture(scope="session")
def django_db_keepdb() -> bool:
    """The file is new in every run; it is laid out before Django makes its tables in it."""
    from django.conf import settings

    from nembrit.web.common.database import lay_out

    lay_out(Path(settings.DATABASES["default"]["TEST"]["NAME"]))
    return True
