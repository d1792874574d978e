"""The log desk's figures: a 300 MB table from file to openable page, zooming in a long log, size of what is kept.

Every time is a ratio to a reference measured in the same run; peaks of memory are above the idle process.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import polars as pl

_COLUMNS = 29
_ROUNDS = 5


def table_file(path: Path, megabytes: int) -> int:
    """A table as a converter would write it: own names, µs clock, decimals; returns its number of rows."""
    from nembrit.core.setup.cards import CARDS
    from nembrit.core.simulate.airframe import World
    from nembrit.core.simulate.flight import DECIMALS, fly
    from tests.flying import HEX, controller

    flight = fly(HEX, controller(), next(card for card in CARDS if card.key == "full"), World(seed=1))
    names = {
        "gyro_raw": "gyro unfiltered",
        "gyro": "gyro filtered",
        "setpoint": "target rate",
        "stick": "stick",
        "motor": "motor",
    }
    roles = [
        role for role in flight.channels if role.split(".")[0] in (*names, "throttle", "battery_voltage", "term_p", "term_i")
    ]
    columns = {}
    for role in roles[:_COLUMNS]:
        family, _, part = role.partition(".")
        columns[f"{names.get(family, family)} {part}".strip()] = np.round(flight.channels[role], DECIMALS[family])
    n = flight.t_s.size
    part = pl.DataFrame({"time us": np.arange(n) * 500, **columns}).write_csv().encode()
    header, _, body = part.partition(b"\n")
    repeats = max(1, round(megabytes * 1e6 / len(body)))
    with path.open("wb") as file:
        file.write(header + b"\n")
        for k in range(repeats):
            frame = pl.DataFrame({"time us": (np.arange(n) + k * n) * 500, **columns})
            file.write(frame.write_csv(include_header=False).encode())
    return n * repeats


def _child(code: str, folder: Path, *words: str) -> list[float]:
    environment = {
        **os.environ,
        "NEMBRIT_DATA": str(folder),
        "DJANGO_SETTINGS_MODULE": "nembrit.web.settings",
        "NEMBRIT_TASKS": "django_tasks.backends.dummy.DummyBackend",
    }
    done = subprocess.run([sys.executable, "-c", code, *words], env=environment, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(done.stderr[-2000:])
    return [float(number) for number in done.stdout.split()]


_READ = """
import time, polars as pl, sys
pl.read_csv(PATH, n_rows=1000)
began = time.perf_counter(); frame = pl.read_csv(PATH); print(time.perf_counter() - began)
"""

_IMPORT = """
import os, re, shutil, time, django
peak_kb = lambda: int(re.search(r"VmHWM:\\s+(\\d+)", open("/proc/self/status").read())[1])
django.setup()
from django.core.files.uploadedfile import TemporaryUploadedFile
from django.core.management import call_command
call_command("migrate", verbosity=0)
from nembrit.web.hangar.services import create_craft
from nembrit.web.intake import services
from nembrit.web.logs import windows
from nembrit.web.logs.models import Log
import polars, numba, scipy.signal, zstandard
craft = create_craft(layout="hex", name="Bench", kind="multirotor")
open("/proc/self/clear_refs", "w").write("5")  # the peak begins anew
idle = peak_kb()
sent = TemporaryUploadedFile("bench.csv", "text/csv", os.path.getsize(PATH), None)  # as a browser's file lies there
shutil.copyfile(PATH, sent.temporary_file_path())
began = time.perf_counter()
(received,) = services.receive_file(craft, "bench.csv", sent.file, flight_fields={})
uploaded = time.perf_counter() - began
log = Log.objects.get()
services.import_log(log.pk, lambda stage, share: None)
took = time.perf_counter() - began
log.refresh_from_db()
assert log.state == "ready", log.error
print(took, uploaded, (peak_kb() - idle) * 1024)
"""

_STORED = """
import django
django.setup()
from django.db.models import Sum
from django.db.models.functions import Length
from nembrit.web.logs.models import Chunk, Stream
stream = Stream.objects.get()
stored = Chunk.objects.filter(channel__position__gt=0).aggregate(size=Sum(Length("content")))["size"]
print(stored, stream.n_samples * (stream.channels.count() - 1) * 4)
"""


def import_figures(folder: Path, megabytes: int = 300, rounds_each: int = _ROUNDS) -> None:
    path = folder / "big.csv"
    n_rows = table_file(path, megabytes)
    rounds = []
    for number in range(rounds_each):  # one after the other, so that a slow minute of the machine hits both
        reference_s = _child(_READ.replace("PATH", repr(str(path))), folder)[0]
        data = folder / str(number)
        rounds.append((reference_s, *_child(_IMPORT.replace("PATH", repr(str(path))), data)))
    ratios = [took_s / reference_s for reference_s, took_s, _, _ in rounds]
    reference_s, took_s, upload_s, peak = np.median(rounds, axis=0)
    float32 = n_rows * (_COLUMNS + 1) * 4
    stored, plain = _child(_STORED, data)
    print(
        f"{path.stat().st_size / 1e6:.0f} MB, {n_rows} rows; polars.read_csv takes {reference_s:.2f} s here "
        f"(median of {rounds_each})"
    )
    print(f"received and imported to an openable page: {took_s:.1f} s; ratios to the reference: median {np.median(ratios):.2f},")
    print("each: " + ", ".join(f"{ratio:.2f}" for ratio in ratios))
    print(f"of which taking the file in (hash, flush to the disk, commit): {upload_s:.1f} s, {upload_s / reference_s:.1f} times")
    print(f"peak memory above idle: {peak / 1e6:.0f} MB, {peak / float32:.1f} times the float32 size of its data")
    print(f"samples kept: {stored / plain:.2f} of raw float32")
    path.unlink()


_ZOOM = """
import io, random, sys, time, django, numpy as np
django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from nembrit.core.records.log import FlightLog, Stream, channel
from nembrit.web.hangar.services import create_craft
from nembrit.web.logs import traces
from nembrit.web.logs.models import Channel, Log
from nembrit.web.logs.storage import settle_draft, store_draft
rng = np.random.default_rng(1)
craft = create_craft(layout="quad", name="Zoom", kind="multirotor")
families = ("gyro", "gyro_raw", "setpoint", "term_p", "term_i", "term_d")
roles = [f"{f}.{a}" for f in families for a in ("roll", "pitch", "yaw")] + [f"motor.{k}" for k in range(1, 7)]
for minutes in map(float, sys.argv[1:]):
    n = int( minutes * 60 * 4000)
    samples = {role: np.cumsum(rng.integers(-9, 10, n)).astype(np.int32) for role in roles}
    log = Log.objects.create(craft=craft, file_name=str(minutes), state="ready")
    channels = tuple(channel(role, values, divisor=100.0) for role, values in samples.items())
    store_draft(log, FlightLog(format_key="x", streams=(Stream(t_s=np.arange(n) / 4000, channels=channels),), rows_read=n))
    settle_draft(log)
    rows = list(Channel.objects.filter(stream__log=log).exclude(position=0).select_related("stream"))
    traces.trace_bytes(rows, {}, start_s=0, end_s=minutes * 60, n_columns=1200)
    random.seed(2)
    times = []
    for k in range(60):
        width = minutes * 60 * 10 ** random.uniform(-3, 0)
        start = random.uniform(0, minutes * 60 - width)
        began = time.perf_counter()
        traces.trace_bytes(rows, {}, start_s=start, end_s=start + width, n_columns=1200)
        times.append(time.perf_counter() - began)
    print(np.median(times), np.percentile(times, 95))
"""


def zoom_figures(folder: Path, minutes_each: tuple[float, ...] = (1, 3, 10)) -> None:
    values = np.array(_child(_ZOOM, folder, *map(str, minutes_each))).reshape(-1, 2)
    block = np.random.default_rng(1).standard_normal(1_000_000)
    began = time.perf_counter()
    for _ in range(5):
        np.sort(block)
    reference_s = (time.perf_counter() - began) / 5
    print(f"reference: numpy sorts a million numbers in {reference_s * 1000:.0f} ms here")
    for minutes, (median_s, late_s) in zip(minutes_each, values, strict=True):
        print(
            f"zoom, 24 channels, {minutes:g} min at 4 kHz: median {median_s * 1000:.0f} ms "
            f"({median_s / reference_s:.2f} times the reference), 95 % within {late_s * 1000:.0f} ms"
        )


def main() -> None:
    for figures in (import_figures, zoom_figures):
        with tempfile.TemporaryDirectory() as folder:
            figures(Path(folder))


if __name__ == "__main__":
    main()
