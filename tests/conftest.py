"""Set-up shared by all tests: a data folder of their own, jobs done at once, simulated flights made once."""

import os
import tempfile

os.environ["NEMBRIT_DATA"] = os.environ.get("NEMBRIT_TEST_DATA") or tempfile.mkdtemp(prefix="nembrit-test-")
os.environ["NEMBRIT_TASKS"] = "django_tasks.backends.immediate.ImmediateBackend"
