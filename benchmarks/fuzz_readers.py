"""Throws damaged and random files at the readers; anything but a log or a deliberate error is a find.

`PYTHONPATH=src .venv/bin/python -m benchmarks.fuzz_readers [N]`, 200,000 inputs by default.
"""

import io
import random
import sys
import time
import warnings

import numpy as np
import polars as pl

from nembrit.core.errors import CoreError
from nembrit.core.formats.registry import read_log
from tests.dialects import DIALECTS
from tests.flying import flown
from tests.references.test_readers import DATA

_WORDS = [
    b",",
    b";",
    b"\t",
    b"\n",
    b"\r\n",
    b'"',
    b"'",
    b"#",
    b"nan",
    b"inf",
    b"-",
    b"1e999",
    b"1,5",
    b"\0",
    b"\xff\xfe",
    b"\xef\xbb\xbf",
    b"time",
    b"gyro[0]",
    b"[us]",
    b"0x1f",
    b"[",
    b"{}",
    b"null",
    b"<gpx>",
    b"$GPGGA,",
    b"*00",
    b"\x1f\x8b",
    b"PK\x03\x04",
    b"PAR1",
]


def seeds() -> list[bytes]:
    """Small whole files of every form."""
    found = []
    for dialect in DIALECTS.values():
        content = dialect(flown(5)).content
        found.append(content[: max(1500, len(content) // 5000)])
    for path in ("worn_imu/worn_imu_as_written.txt", "hand_imu/inertial.csv", "walk_track/walk.gpx"):
        found.append((DATA / path).read_bytes()[:2500])
    frame = pl.DataFrame({"time [s]": np.arange(20) / 100, "gyro.roll [deg/s]": np.arange(20.0), "mode": ["a", "b"] * 10})
    for write in ("write_csv", "write_parquet", "write_ndjson"):
        buffer = io.BytesIO()
        getattr(frame, write)(buffer)
        found.append(buffer.getvalue())
    import gzip

    found.append(gzip.compress(found[0]))
    found.append(b"$GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*47\r\n" * 4)
    return found


def damaged(content: bytes, rng: random.Random) -> bytes:
    """The file with a few things done to it that happen to files, and some that do not."""
    data = bytearray(content)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(data) + 1)
        kind = rng.randrange(8)
        if kind == 0:
            del data[at:]
        elif kind == 1:
            del data[at : at + rng.randint(1, 200)]
        elif kind == 2:
            data[at:at] = rng.choice(_WORDS) * rng.choice((1, 1, 2, 50))
        elif kind == 3 and data:
            data[at % len(data)] = rng.randrange(256)
        elif kind == 4:
            other = rng.randrange(len(data) + 1)
            data[at:at] = data[min(at, other) : max(at, other)][:2000]
        elif kind == 5:
            data[at:at] = rng.randbytes(rng.randint(1, 30))
        elif kind == 6:
            lines = bytes(data).split(b"\n")
            rng.shuffle(lines)
            data = bytearray(b"\n".join(lines))
        else:
            data = bytearray(bytes(data).replace(rng.choice((b",", b".", b"\n", b"0", b";")), rng.choice(_WORDS)))[:200_000]
    return bytes(data)


def main() -> None:
    n = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    whole, rng = seeds(), random.Random(20261125)
    warnings.simplefilter("ignore")
    read = refused = 0
    finds: dict[str, bytes] = {}
    began = time.monotonic()
    for number in range(n):
        content = damaged(rng.choice(whole), rng) if rng.random() < 0.95 else rng.randbytes(rng.randint(0, 400))
        try:
            read_log(content)
            read += 1
        except CoreError:
            refused += 1
        except BaseException as error:
            if isinstance(error, KeyboardInterrupt):
                raise
            name = f"{type(error).__name__}: {str(error)[:100]}"
            if name not in finds:
                finds[name] = content
                print(name, content[:1500], flush=True)
        if number % 20_000 == 19_999:
            print(
                f"{number + 1} inputs, {read} read, {refused} refused, {len(finds)} finds, {time.monotonic() - began:.0f} s",
                flush=True,
            )
    print(f"{n} inputs: {read} read, {refused} refused with a sentence, {len(finds)} other errors")
    sys.exit(bool(finds))


if __name__ == "__main__":
    main()
