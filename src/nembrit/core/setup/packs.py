"""Packs: what their voltages mean, how long they last, and how many tests they carry."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError

USABLE_RATIO = 0.8  # of the capacity, before landing (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Chemistry:
    """Voltages of one cell [V] (common practice, no source): full, ready for a test, for storage, to land at under load."""

    label: str
    full_v: float
    fresh_v: float  # at rest, from here on it counts as a fresh pack
    storage_v: tuple[float, float]
    landing_v: float  # under load
    damaged_v: float  # at rest, below it the maker's instructions decide


CHEMISTRIES = {
    "lipo": Chemistry(label="lithium-polymer", full_v=4.2, fresh_v=4.1, storage_v=(3.75, 3.9), landing_v=3.5, damaged_v=3.0),
    "lihv": Chemistry(label="lithium-polymer, high voltage", full_v=4.35, fresh_v=4.2, storage_v=(3.75, 3.95), landing_v=3.5,
                      damaged_v=3.0),
    "liion": Chemistry(label="lithium-ion", full_v=4.2, fresh_v=4.1, storage_v=(3.6, 3.8), landing_v=3.25, damaged_v=2.5),
}  # fmt: skip
CAUTIONS = (
    "Charge by the maker’s instructions, never unattended, on something that cannot burn.",
    "Back to storage voltage after the day; nothing full or empty for longer.",
    "Swollen, dented or after a crash: do not charge it; bring it to where packs are taken back.",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class RestState:
    """What a voltage at rest says of a pack."""

    cell_v: float
    word: str  # full, fresh, part used, storage, low, below sense
    may_fly: bool
    told: str


def rest_state(pack_v: float, *, cells: int, chemistry: str) -> RestState:
    """Judge a pack's voltage at rest. Raises InputError for what no pack of so many cells has.

    >>> rest_state(16.6, cells=4, chemistry="lipo").word, rest_state(15.3, cells=4, chemistry="lipo").word
    ('full', 'storage')
    """
    kind = _chemistry(chemistry)
    if not 1 <= cells <= 14:
        raise InputError(f"cells go from 1 to 14, got {cells}")
    cell_v = pack_v / cells
    if not 0 < cell_v <= kind.full_v + 0.1:
        raise InputError(f"{pack_v:g} V are {cell_v:.2f} V per cell: no {kind.label} pack of {cells} cells has that")
    if cell_v < kind.damaged_v:
        return RestState(
            cell_v=cell_v, word="below sense", may_fly=False, told="too low at rest: the maker’s instructions decide"
        )
    if cell_v >= kind.full_v - 0.06:
        return RestState(cell_v=cell_v, word="full", may_fly=True, told="full")
    if cell_v >= kind.fresh_v:
        return RestState(cell_v=cell_v, word="fresh", may_fly=True, told="full enough to compare")
    low, high = kind.storage_v
    if cell_v > high:
        told = "part used: sag changes the response, so do not compare it with a full pack"
        return RestState(cell_v=cell_v, word="part used", may_fly=True, told=told)
    if cell_v >= low:
        return RestState(cell_v=cell_v, word="storage", may_fly=False, told="at storage voltage: charge it before flying")
    return RestState(cell_v=cell_v, word="low", may_fly=False, told="low: charge it, or bring it to storage voltage")


def _chemistry(key: str) -> Chemistry:
    if key not in CHEMISTRIES:
        raise InputError(f"“{key}” is no chemistry; expected one of {', '.join(CHEMISTRIES)}")
    return CHEMISTRIES[key]


def landing_pack_v(cells: int, chemistry: str) -> float:
    """Voltage of the whole pack under load at which to land [V].

    >>> landing_pack_v(4, "lipo"), landing_pack_v(4, "liion")
    (14.0, 13.0)
    """
    return cells * _chemistry(chemistry).landing_v


def endurance_s(capacity_mah: float, mean_current_a: float) -> float:
    """How long a pack lasts until landing [s], from its capacity and the mean current of like flights.

    Four fifths of the capacity are used. Raises InputError for what cannot be.

    >>> endurance_s(1500, 18)
    240.0
    """
    if not 0 < capacity_mah < 1e6 or not 0 < mean_current_a < 1000:
        raise InputError("capacity and current must be above 0 and plausible")
    return USABLE_RATIO * capacity_mah * 3.6 / mean_current_a


def rounds_that_fit(endurances_s: Sequence[float], test_s: float) -> int:
    """Whole tests of so many seconds in these packs.

    Source of the example: common practice, no source.

    >>> rounds_that_fit([300, 300], 30)
    20
    """
    if test_s <= 0:
        raise InputError("a test takes more than 0 s")
    return sum(int((each + 1e-9) // test_s) for each in endurances_s)


def balanced_packs(arms: Sequence[str], packs: Sequence[str]) -> list[str]:
    """A pack for every flight of a schedule, so that each arm flies each pack equally often, as nearly as it goes.

    Each arm goes through the packs in its own turn, the first arm from the first pack, the second from the second, so that no
    pack flies twice in a row where there is another.

    >>> balanced_packs("ABBA", ["1", "2"])
    ['1', '2', '1', '2']
    """
    if not packs:
        raise InputError("name at least one pack")
    order = list(dict.fromkeys(arms))
    turns: dict[str, int] = {arm: place for place, arm in enumerate(order)}
    uses: dict[tuple[str, str], int] = {}
    found: list[str] = []
    for arm in arms:
        least = min(uses.get((arm, pack), 0) for pack in packs)
        free = [pack for pack in packs if uses.get((arm, pack), 0) == least]
        start = turns[arm] % len(packs)
        turned = sorted(free, key=lambda pack: (bool(found) and pack == found[-1], (packs.index(pack) - start) % len(packs)))
        found.append(turned[0])
        uses[arm, turned[0]] = uses.get((arm, turned[0]), 0) + 1
        turns[arm] += 1
    return found


def imbalance(arms: Sequence[str], packs: Sequence[str]) -> Mapping[str, tuple[int, int]]:
    """For each pack how often the arms flew it, least and most; equal numbers are balanced."""
    names = list(dict.fromkeys(arms))
    pairs = list(zip(arms, packs, strict=True))
    counts = {pack: [sum(one == (arm, pack) for one in pairs) for arm in names] for pack in dict.fromkeys(packs)}
    return {pack: (min(own), max(own)) for pack, own in counts.items()}
