"""What tests of every folder share: the workshop's file laid out as the server does it."""

from pathlib import Path

import pytest

# left to `run.py check --full`, so that a whole run stays below ten minutes on two processors
LONG = (
    "test_door.py::test_connections_that_say_nothing",
    "test_server.py::test_serving_an_unfinished_demo_empties_nothing",
    "test_server.py::test_a_restore_ends_an_unfinished_demo",
    "test_server.py::test_a_killed_worker_is_replaced",
    "test_journey.py::test_missing_meaning_is_said_and_mended",
    "test_from_a_log_to_a_finding_a_repair_and_what_its_flights_say[chromium-phone]",
    "bench/test_bench.py::TestSensors::test_a_companion_log",
    "bench/test_bench.py::TestMechanicsFirst::test_flights_from_before_the_fault",
    "noise/test_bench.py::test_noise_without_lines_gives_no_law",
    "noise/test_bench.py::test_motor_speed_is_estimated_where_it_is_not_recorded",
    "test_tables.py::test_an_invented_dialect_is_understood",
    "test_readers.py::test_every_number_is_the_one_that_pandas_reads",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if any(name in item.nodeid for name in LONG):
            item.add_marker(pytest.mark.long)


@pytest.fixture(scope="session")
def django_db_keepdb() -> bool:
    """The file is new in every run; it is laid out before Django makes its tables in it."""
    from django.conf import settings

    from nembrit.web.common.database import lay_out

    lay_out(Path(settings.DATABASES["default"]["TEST"]["NAME"]))
    return True
