"""Giving data out: selected columns of one time base as CSV, Parquet or JSON Lines, tracks as GeoJSON."""

import io
import json
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import polars as pl

from nembrit.core.errors import InputError
from nembrit.core.records.roles import header_of
from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class GivenColumn:
    """One column to give out, in its role's unit; `role` None keeps the name the file gave it."""

    role: str | None
    name: str
    unit: str
    values: FloatArray
    labels: tuple[str, ...] | None = None  # text: values are positions in it

    @property
    def header(self) -> str:
        """Header that reads back as this column.

        >>> GivenColumn(role=None, name="lamp [a],b", unit="lx", values=np.zeros(1)).header
        'other.lamp a b [lx]'
        """
        if self.role:
            return header_of(self.role)
        name = " ".join(re.sub(r"[\[\],\"\n\r]", " ", self.name).split()) or "column"
        unit = re.sub(r"[\[\],\"\n\r]", " ", self.unit).strip()
        return f"other.{name} [{unit}]" if unit else f"other.{name}"


def _frame(t_s: FloatArray, columns: Sequence[GivenColumn]) -> pl.DataFrame:
    if t_s.size < 2:
        raise InputError("fewer than two samples in this span; choose a longer one")
    if not columns:
        raise InputError("choose at least one channel")
    data: dict[str, pl.Series] = {"time [s]": pl.Series(np.round(t_s, 9))}
    for column in columns:
        header, number = column.header, 2
        while header in data:
            header, number = column.header.replace("other.", f"other.{number} ", 1), number + 1
        if column.labels is not None:
            plain = [re.sub(r"[,\"\n\r]+", " ", label).strip() for label in column.labels]
            data[header] = pl.Series([plain[int(code)] for code in column.values], dtype=pl.String)
        else:
            data[header] = pl.Series(column.values).fill_nan(None)
    return pl.DataFrame(data)


def to_csv(t_s: FloatArray, columns: Sequence[GivenColumn]) -> bytes:
    """Nembrit's own CSV; numbers are written so that they read back bit for bit."""
    buffer = io.BytesIO()
    _frame(t_s, columns).write_csv(buffer)
    return buffer.getvalue()


def to_parquet(t_s: FloatArray, columns: Sequence[GivenColumn]) -> bytes:
    """Apache Parquet with the same headers as the CSV."""
    buffer = io.BytesIO()
    _frame(t_s, columns).write_parquet(buffer, compression="zstd")
    return buffer.getvalue()


def to_jsonl(t_s: FloatArray, columns: Sequence[GivenColumn]) -> bytes:
    """JSON Lines, one object a sample; missing values are null."""
    buffer = io.BytesIO()
    _frame(t_s, columns).write_ndjson(buffer)
    return buffer.getvalue()


WRITERS = {"csv": to_csv, "parquet": to_parquet, "jsonl": to_jsonl}


def to_geojson(latitude_deg: FloatArray, longitude_deg: FloatArray, altitude_m: FloatArray | None, *, name: str) -> bytes:
    """One LineString feature (RFC 7946: longitude first, WGS 84) of the fixes that have a position."""
    whole = np.flatnonzero(np.isfinite(latitude_deg) & np.isfinite(longitude_deg))
    if whole.size < 2:
        raise InputError("fewer than two positions in this span, so there is no track")
    points = []
    for k in whole:
        point = [round(float(longitude_deg[k]), 7), round(float(latitude_deg[k]), 7)]
        if altitude_m is not None and np.isfinite(altitude_m[k]):
            point.append(round(float(altitude_m[k]), 2))
        points.append(point)
    feature = {"type": "Feature", "properties": {"name": name}, "geometry": {"type": "LineString", "coordinates": points}}
    return (json.dumps(feature, ensure_ascii=False) + "\n").encode()
