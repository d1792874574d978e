"""What tests of every folder share: the workshop's file laid out as the server does it."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

# a busy machine is no fault of what is tested
settings.register_profile("patient", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("patient")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """`long` with `only`: of a test's cases just those whose name holds one of the words; the others run always."""
    for item in items:
        mark = item.get_closest_marker("long")
        assert mark is None or mark.args, f"{item.nodeid}: say why it is left to the full check"
        only = mark.kwargs.get("only") if mark else None
        case = item.nodeid.partition("[")[2]
        if only and not any(word in case for word in only):
            item.own_markers = [one for one in item.own_markers if one.name != "long"]


@pytest.fixture(scope="session")
def django_db_keepdb() -> bool:
    """The file is new in every run; it is laid out before Django makes its tables in it."""
    from django.conf import settings

    from nembrit.web.common.database import lay_out

    lay_out(Path(settings.DATABASES["default"]["TEST"]["NAME"]))
    return True
