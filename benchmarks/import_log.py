"""How long a 72 s, 2 kHz, 30-column CSV takes from file to evidence, as ratios to polars.read_csv in the same run."""

import io
import os
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import polars as pl

from nembrit.core.analysis.flight import ROLES, CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.registry import read_log
from nembrit.core.manoeuvres.phases import usable_window_s
from nembrit.core.records.timebase import uniform
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.airframe import World
from nembrit.core.simulate.flight import DECIMALS, fly
from tests.flying import HEX, controller


def seconds(work: Callable[[], object], repeats: int = 3) -> float:
    best = float("inf")
    for _ in range(repeats):
        began = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - began)
    return best


def main() -> None:
    card = next(card for card in CARDS if card.key == "full")
    flight = fly(HEX, controller(), card, World(seed=1))
    roles = [role for role in flight.channels if not role.startswith(("motor_rpm", "accel", "stick", "battery_current"))][:29]
    n = 72 * 2000
    repeat = -(-n // flight.t_s.size)
    channels = [(role, np.tile(flight.channels[role], repeat)[:n]) for role in roles]
    content = nembrit_csv.write(channels, np.arange(n) / 2000, decimals=DECIMALS)
    reference = seconds(lambda: pl.read_csv(io.BytesIO(content)))
    read = seconds(lambda: read_log(content))

    with tempfile.TemporaryDirectory() as folder:
        os.environ["NEMBRIT_DATA"] = folder
        os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nembrit.web.settings")
        stored = seconds(lambda: _pack(content), repeats=2)
    recording = uniform(read_log(content).main, roles=tuple(role for role in roles if role.startswith(ROLES)))
    part = recording.span(*usable_window_s(recording))
    evidence = seconds(lambda: analyse(Flight(part, craft=CraftFacts(mixer=HEX.mixer()))), repeats=2)
    print(f"{len(content) / 1e6:.0f} MB, {len(roles) + 1} columns; polars.read_csv into memory takes {reference:.2f} s here")
    for name, value in (("read and understood", read), ("packed for the database", stored), ("evidence", evidence)):
        print(f"{name}: {value:.2f} s, {value / reference:.1f} times the reference")


def _pack(content: bytes) -> int:
    import django

    django.setup()
    from nembrit.web.logs.storage import _packed_stream

    with ThreadPoolExecutor(max_workers=2) as pool:
        _, channels = _packed_stream(read_log(content).main, lambda stage, share: None, pool)
    return sum(len(chunk.content) for _, chunks, _ in channels for chunk in chunks)


if __name__ == "__main__":
    main()
