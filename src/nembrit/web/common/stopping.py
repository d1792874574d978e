"""Whether this server is ending: streams that would never end look here."""

import threading

STOP = threading.Event()
