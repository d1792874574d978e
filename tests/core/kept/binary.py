"""Kept numbers of files that are no plain tables: Parquet, JSON Lines, archives; and of logs whose rows go astray."""

import io
import json
import zipfile
from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import numpy as np
import polars as pl

from nembrit.core.formats.bundle import Bundle, open_bundle, write_bundle
from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.report.documents import log_document
from tests.core.kept.sweeps import told


def _raw(content: bytes) -> Any:
    raw = read_raw(content)
    tables = [
        [
            [one.name, one.unit, one.divisor, str(one.samples.dtype), np.asarray(one.samples, np.float64), one.labels]
            for one in table.columns
        ]
        for table in raw.tables
    ]
    notes = [[note.code, note.detail] for note in raw.notes]
    return [tables, raw.rows_read, raw.rows_dropped, raw.preamble, raw.understood, notes]


def parquet() -> Any:
    n = 50
    begin = datetime(2026, 5, 1, 12, tzinfo=UTC)
    moments = [begin + timedelta(microseconds=2000 * k) for k in range(n)]
    kinds: dict[str, pl.Series] = {
        **{unit: pl.Series("time", moments).cast(pl.Datetime(unit, "UTC")) for unit in ("ms", "us", "ns")},  # type: ignore[arg-type]
        "span": pl.Series("time", [timedelta(milliseconds=2 * k) for k in range(n)]),
        "time of day": pl.Series("time", [time(10, 0, k) for k in range(n)]), "date": pl.Series("day", [date(2026, 5, 1)] * n),
        "words": pl.Series("mode", ["on", "off", None, "x" * 500, "on"] * 10), "bool": pl.Series("armed", [True, None] * 25),
        "ints": pl.Series("gyro x", np.arange(n, dtype=np.int16) - 9), "big": pl.Series("ticks", np.arange(n) + 2**60),
        "floats": pl.Series("gyro y [deg/s]", np.where(np.arange(n) % 7 == 3, np.inf, np.sin(np.arange(n)))),
        "halves": pl.Series("u", np.arange(n) / 8), "lists": pl.Series("l", [[1.0]] * n),
    }  # fmt: skip
    found: dict[str, Any] = {}
    for name, series in kinds.items():
        file = io.BytesIO()
        pl.DataFrame([series.alias(series.name or name), pl.Series("value", np.arange(n) / 10)]).write_parquet(file)
        found[name] = told(lambda f=file: _raw(f.getvalue()))
    lonely = io.BytesIO()
    pl.DataFrame([kinds["lists"]]).write_parquet(lonely)
    found["nothing"] = told(lambda: _raw(lonely.getvalue()))
    return found


def json_lines() -> Any:
    rows = [{"t": k / 100, "gyro": {"x": k, "y": [k, -k]}, "on": k % 2 == 0, "name": None if k % 5 else "m"} for k in range(30)]
    slow = [{"t": k, "volts": 16.0 - k / 10} for k in range(4)]
    cases = {
        "nested": rows, "two streams": [*rows, *slow], "one alone": [*rows, {"made": 3, "by": "x"}],
        "settings": [{"rate": 500}, *rows],
        "words": [{"t": k, "mode": "ab"[k % 2]} for k in range(9)], "few": rows[:1],
    }  # fmt: skip
    found: dict[str, Any] = {}
    for name, lines in cases.items():
        text = "\n".join(json.dumps(line) for line in lines)
        for change, content in (
            ("", text),
            ("broken", text.replace("\n", "\n[1]\n{\n", 1)),
            ("blank", text.replace("\n", "\n\n \n")),
        ):
            found[f"{name} {change}"] = told(lambda c=content: _raw(c.encode()))
    many = "\n".join(json.dumps({f"k{k}": 1, "t": k}) for k in range(40))
    found["kinds"] = told(lambda: _raw(many.encode()))
    found["notes"] = told(lambda: _raw(("\n".join(["[]"] * 30) + "\n" + "\n".join(json.dumps(row) for row in rows)).encode()))
    return found


def _bundled(change: Callable[[dict[str, bytes]], dict[str, bytes]] = dict) -> bytes:
    file = io.BytesIO()
    write_bundle(file, [("craft.json", b'{"a":1}'), ("logs/one-2.parquet", b"12345"), ("blob.bin", b"")], told={"made": "x"})
    with zipfile.ZipFile(file) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    again = io.BytesIO()
    with zipfile.ZipFile(again, "w") as archive:
        for name, content in change(members).items():
            archive.writestr(name, content)
    return again.getvalue()


def bundles() -> Any:
    plain = io.BytesIO()
    write_bundle(plain, [("craft.json", b'{"a":1}'), ("logs/one-2.parquet", b"12345")], told={"made": "x"})
    with zipfile.ZipFile(plain) as archive:
        infos = [[i.filename, i.date_time, i.compress_type, i.external_attr, i.file_size] for i in archive.infolist()]
    found: dict[str, Any] = {"written": infos}

    def manifest(edit: Callable[[dict[str, Any]], Any]) -> Callable[[dict[str, bytes]], dict[str, bytes]]:
        return lambda members: members | {"manifest.json": json.dumps(edit(json.loads(members["manifest.json"]))).encode()}

    changes: dict[str, Callable[[dict[str, bytes]], dict[str, bytes]]] = {
        "as it was": dict, "without a manifest": lambda m: {k: v for k, v in m.items() if k != "manifest.json"},
        "without a member": lambda m: {k: v for k, v in m.items() if k != "blob.bin"},
        "one more": lambda m: m | {"more.bin": b"x"},
        "a path": lambda m: m | {"../x.bin": b"x"}, "altered": lambda m: m | {"craft.json": b'{"a":2}'},
        "longer": lambda m: m | {"craft.json": b'{"a":1} '}, "newer": manifest(lambda t: t | {"schema": "nembrit.archive/2"}),
        "other": manifest(lambda t: t | {"schema": "x/1"}), "no list": manifest(lambda t: t | {"members": []}),
        "odd list": manifest(lambda t: t | {"members": {"a.bin": {"sha256": 1, "bytes": 2}}}),
        "no object": manifest(lambda t: [1]),
    }  # fmt: skip
    for name, change in changes.items():
        found[name] = told(lambda c=change: _opened(open_bundle(io.BytesIO(_bundled(c)))))
    found["cut"] = told(lambda: open_bundle(io.BytesIO(_bundled()[:-30])))[:40]
    for name in ("A.json", "a.exe", "a/b.json"):
        found[f"named {name}"] = told(lambda n=name: write_bundle(io.BytesIO(), [(n, b"")], told={}))
    return found


def _opened(bundle: Bundle) -> Any:
    return [bundle.names(), bundle.manifest, bundle.read_json("craft.json"), told(lambda: bundle.read("none.bin"))]


def astray() -> Any:
    """Rows that are doubled, turned back, missing or far off, at the edges of what is mended."""
    found: dict[str, Any] = {}
    rng = np.random.default_rng(12)
    n = 4000
    value = np.cumsum(rng.normal(0, 1, n))
    t_s = np.arange(n) / 1000
    for name, step in (
        ("doubled", 0.0),
        ("back a little", -0.0005),
        ("back", -0.02),
        ("far back", -1.5),
        ("far on", 3.0),
        ("on", 0.09),
    ):
        for every in (7, 400, 1999):
            moved = t_s.copy()
            moved[every::every] += step - 0.001
            moved[every + 1 :: every] = np.where(
                np.arange(moved[every + 1 :: every].size) % 2, moved[every + 1 :: every], t_s[every + 1 :: every]
            )
            text = "time [s],gyro roll [deg/s]\n" + "\n".join(f"{a:.4f},{b:.3f}" for a, b in zip(moved, value, strict=True))
            raw = read_raw(text.encode())
            log = told(lambda r=raw: interpret(r, propose(r)))
            found[f"{name} {every}"] = log if isinstance(log, str) else [
                log.main.n_samples, log.main.t_s, [[note.code, note.severity, note.detail] for note in log.quality],
            ]  # fmt: skip
    return found


def restarts() -> Any:
    """Clocks that begin again, at nought and elsewhere; and what the report says of such logs."""
    found: dict[str, Any] = {}
    value = np.sin(np.arange(4000) / 9)
    for at, begin in ((2000, 0), (2000, 700), (3990, 40), (1500, 1499)):
        ticks = np.where(np.arange(4000) < at, np.arange(4000) + 50, np.arange(4000) - at + begin)
        text = "time [ms],gyro roll [deg/s]\n" + "\n".join(f"{a},{b:.3f}" for a, b in zip(ticks, value, strict=True))
        raw = read_raw(text.encode())
        log = told(lambda r=raw: interpret(r, propose(r)))
        told_of = log if isinstance(log, str) else log_document(log, file="x.csv", sha256="0", window_s=(0.5, 1.5))
        found[f"{at} {begin}"] = [log if isinstance(log, str) else log.main.t_s, told_of]
    return found


BINARY: dict[str, Callable[[], Any]] = {
    "parquet": parquet, "json lines": json_lines, "bundles": bundles, "astray": astray, "restarts": restarts,
}  # fmt: skip
