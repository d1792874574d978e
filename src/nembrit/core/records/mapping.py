"""What each column of a table means: a proposal by the recogniser, corrected by the tuner, kept as a profile."""

from dataclasses import asdict, dataclass, field
from typing import Any

from nembrit.core.errors import CoreError, InputError
from nembrit.core.records.roles import quantity_of


class ClockUnknown(CoreError):
    """The table has no column that tells the time, or only a counter: the tuner must say the rate."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ClockUse:
    """Where a table's time comes from: a column × `unit_s`, a counter at a rate, or the rate alone."""

    column: int | None = None
    unit_s: float | None = None
    rate_hz: float | None = None
    confidence: float = 0.0
    reason: str = ""

    @property
    def is_known(self) -> bool:
        return self.rate_hz is not None or (self.column is not None and self.unit_s is not None)


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnUse:
    """One column's meaning: value in the role's unit = number as written × factor + offset."""

    name: str
    role: str | None = None  # None: kept without a meaning
    unit: str = ""  # the role's own unit, or the file's where there is no role
    factor: float = 1.0
    offset: float = 0.0
    confidence: float = 0.0
    reason: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class TableMapping:
    """Clock and columns of one table."""

    clock: ClockUse
    columns: tuple[ColumnUse, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Mapping:
    """Meanings of a whole file, a table each."""

    tables: tuple[TableMapping, ...]
    notes: tuple[str, ...] = field(default_factory=tuple)
    modes: dict[str, str] = field(default_factory=dict)  # number as written → name, where modes are numbers

    def as_json(self) -> dict[str, Any]:
        return asdict(self)

    @property
    def n_doubtful(self) -> int:
        """Columns with a role that the recogniser is not sure of."""
        return sum(use.role is not None and use.confidence < 0.6 for table in self.tables for use in table.columns)


def mapping_from_json(document: dict[str, Any]) -> Mapping:
    """Read `Mapping.as_json` back. Raises InputError for anything else."""
    try:
        tables = tuple(
            TableMapping(
                clock=ClockUse(**table["clock"]),
                columns=tuple(ColumnUse(**use) for use in table["columns"]),
            )
            for table in document["tables"]
        )
    except (KeyError, TypeError) as error:
        raise InputError(f"this is not an import profile: {error}") from None
    modes = {str(number): str(name) for number, name in dict(document.get("modes") or {}).items()}
    return Mapping(tables=tables, notes=tuple(document.get("notes", ())), modes=modes)


def check_mapping(mapping: Mapping) -> None:
    """Refuse roles that do not exist or stand twice in a table. Raises InputError."""
    for table in mapping.tables:
        taken: dict[str, str] = {}
        for use in table.columns:
            if use.role is None:
                continue
            if quantity_of(use.role) is None:
                raise InputError(f"“{use.role}” is not a known meaning")
            if use.role in taken:
                raise InputError(
                    f"{use.role} is given to “{taken[use.role]}” and to “{use.name}”; each meaning belongs to one column"
                )
            taken[use.role] = use.name
            if use.factor == 0 or not abs(use.factor) < 1e12:
                raise InputError(f"the scale of “{use.name}” must be a number other than 0, got {use.factor:g}")
