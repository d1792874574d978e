"""The application that the server runs."""

import gc
import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nembrit.web.settings")
django.setup(set_prefix=False)

from django.core.signals import request_finished, request_started  # noqa: E402 - needs the settings
from django.db import close_old_connections, reset_queries  # noqa: E402 - needs the settings

from nembrit.web.common.door import Door  # noqa: E402 - needs the settings

# connections belong to the threads of `common.threads`; here every request would begin a thread for nothing
for receiver in (close_old_connections, reset_queries):
    request_started.disconnect(receiver)
request_finished.disconnect(close_old_connections)

application = Door()

# what is loaded by now stays: looking through it for garbage again and again costs a page a third of its time
gc.collect()
gc.freeze()
gc.set_threshold(20_000, 20, 50)
