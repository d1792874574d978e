"""The workshop's settings with a data folder of the tests' own and jobs done at once."""

import os
import tempfile

os.environ["NEMBRIT_DATA"] = tempfile.mkdtemp(prefix="nembrit-test-")
os.environ["NEMBRIT_TASKS"] = "tests.tasks.AfterCommit"

from nembrit.web.settings import *  # noqa: F403 - the environment decides before the import
