"""Ground heights from files: a profile of distance and height, or a small grid to cut a profile from."""

import io
from dataclasses import dataclass

import numpy as np
import polars as pl
from scipy.interpolate import RegularGridInterpolator

from nembrit.core.errors import InputError, LogReadError
from nembrit.core.records.track import east_north_m
from nembrit.core.types import FloatArray

MOST_PLACES = 5000
_STEP_M, _MOST_CELLS = 25.0, 1_000_000
_GRID_WORDS = ("ncols", "nrows", "xllcorner", "yllcorner", "cellsize")


def two_columns(content: bytes, name: str) -> tuple[FloatArray, FloatArray]:
    """The first two columns of numbers of a table, with or without a header. Raises LogReadError."""
    try:
        head = content.split(b"\n", 1)[0].decode("utf-8", errors="replace")
        has_header = any(character.isalpha() for character in head.replace("e", "").replace("E", ""))
        frame = pl.read_csv(io.BytesIO(content), has_header=has_header, comment_prefix="#", infer_schema_length=None)
        numbers = [column for column in frame.get_columns() if column.dtype.is_numeric()][:2]
        if len(numbers) < 2 or frame.height < 1:
            raise LogReadError(f"{name}: expected two columns of numbers, distance and height in metres")
        first, second = (np.asarray(column.cast(pl.Float64).to_numpy(), dtype=np.float64) for column in numbers)
    except pl.exceptions.PolarsError as error:
        raise LogReadError(f"{name} cannot be read as a table: {error}") from None
    return first, second


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Grid:
    """Heights on a grid in degrees, first row in the south; NaN where none is known."""

    latitude_deg: FloatArray  # (n,) rising
    longitude_deg: FloatArray  # (m,) rising
    height_m: FloatArray  # (n, m)


def is_grid(content: bytes) -> bool:
    return content[:200].lstrip().lower().startswith(b"ncols")


def grid_of(content: bytes, name: str) -> Grid:
    """Read a text grid: six lines of a name and a number (ncols, nrows, xllcorner, yllcorner, cellsize, NODATA_value), then the
    rows from north to south, corners in degrees. Raises LogReadError that says what is wrong.
    """
    lines = content.decode("ascii", errors="replace").split("\n")
    head: dict[str, float] = {}
    while lines and (parts := lines[0].split()) and parts[0][:1].isalpha():
        if len(parts) != 2:
            raise LogReadError(f"{name}: “{lines[0][:40]}” should be a name and a number")
        try:
            head[parts[0].lower()] = float(parts[1])
        except ValueError:
            raise LogReadError(f"{name}: “{lines[0][:40]}” should be a name and a number") from None
        lines.pop(0)
    lacking = [word for word in _GRID_WORDS if word not in head]
    if lacking:
        raise LogReadError(f"{name}: a grid needs {', '.join(lacking)} at its head")
    n, m, cell = int(head["nrows"]), int(head["ncols"]), head["cellsize"]
    if n < 2 or m < 2 or n * m > _MOST_CELLS or not 0 < cell <= 1:
        raise LogReadError(f"{name}: {n} rows of {m} cells of {cell:g}°; from 2 × 2 up to a million cells in degrees can be read")
    try:
        values = np.array(" ".join(lines).split(), dtype=np.float64)
    except ValueError:
        raise LogReadError(f"{name}: below its head a grid holds numbers only") from None
    if values.size != n * m:
        raise LogReadError(f"{name}: {values.size} heights, expected {n} × {m} = {n * m}")
    values[values == head.get("nodata_value", -9999.0)] = np.nan
    south, west = head["yllcorner"], head["xllcorner"]
    return Grid(
        latitude_deg=np.asarray(south + cell * (np.arange(n) + 0.5), dtype=np.float64),
        longitude_deg=np.asarray(west + cell * (np.arange(m) + 0.5), dtype=np.float64), height_m=values.reshape(n, m)[::-1],
    )  # fmt: skip


def profile_between(grid: Grid, start_deg: tuple[float, float], end_deg: tuple[float, float]) -> tuple[FloatArray, FloatArray]:
    """Distances [m] and heights between two places (latitude, longitude), every 25 m, between cells by bilinear interpolation.

    Raises InputError for places beyond the grid, and where heights are missing.
    """
    east, north = east_north_m(np.array([end_deg[0]]), np.array([end_deg[1]]), start_deg)
    whole_m = float(np.hypot(east[0], north[0]))
    if not 100 <= whole_m <= 100_000:
        raise InputError(f"the two places are {whole_m:.0f} m apart; a profile goes over 100 m to 100 km")
    share = np.linspace(0.0, 1.0, min(MOST_PLACES, max(5, round(whole_m / _STEP_M) + 1)))
    places = np.column_stack([a + share * (b - a) for a, b in zip(start_deg, end_deg, strict=True)])
    look = RegularGridInterpolator((grid.latitude_deg, grid.longitude_deg), grid.height_m, bounds_error=False)
    heights = look(places)
    if not np.isfinite(heights).all():
        raise InputError("the grid does not cover the whole way between the two places, or has no height somewhere on it")
    return share * whole_m, np.asarray(heights)


def reach_at(height_m: float, distance_m: FloatArray, needed_m: FloatArray, ground_m: FloatArray) -> float:
    """Distance up to which a height above the first place's ground is enough all the way; 0 where it is not even at once."""
    low = np.flatnonzero(ground_m[0] + height_m < needed_m)
    low = low[low > 0]
    return float(distance_m[low[0] - 1]) if low.size else float(distance_m[-1])
