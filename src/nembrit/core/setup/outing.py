"""What a phone noted at the field: taps, one after the other, and what they tell together."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.given import clean_text, finite

MARKERS = {
    "multirotor": ("buzz", "shake", "drift", "pulse", "good"),
    "fixed_wing": ("pull", "weave", "lurch", "flutter", "good"),
}  # by kind of craft: what is felt or heard
_ALL_MARKERS = frozenset(what for own in MARKERS.values() for what in own)
KINDS = ("take_off", "next", "marker", "bad_sign", "landed", "after")
HEATS = ("cool", "warm", "hot")
ENDS = ("as_planned", "aborted", "crashed")
_MOST_S, _MOST_NOTE = 4 * 3600.0, 2000
_COLDEST_C, _HOTTEST_C = -30.0, 250.0
_WARM_C, _HOT_C = 45.0, 60.0  # a hand can stay below the one, not above the other (common practice, no source)
_UID = re.compile(r"[0-9a-f-]{8,36}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Tap:
    """One entry. `at_s` runs on the phone's own clock from the opening of the page: a wrong time of day costs nothing."""

    uid: str
    kind: str
    at_s: float
    data: Mapping[str, Any] = field(default_factory=dict)


def tap_from(document: Any) -> Tap:
    """One entry as the phone sent it. Raises InputError for what cannot be one."""
    if not isinstance(document, dict):
        raise InputError("an entry should be an object")
    uid, kind, at_s, data = (document.get(key) for key in ("uid", "kind", "at_s", "data"))
    if not isinstance(uid, str) or not _UID.fullmatch(uid):
        raise InputError("an entry has no identifier")
    if kind not in KINDS:
        raise InputError(f"“{str(kind)[:20]}” is not a kind of entry")
    time_s = finite(at_s, low=0, high=_MOST_S)
    if time_s is None:
        raise InputError(f"its time is not within {_MOST_S / 3600:.0f} hours of the page’s opening")
    return Tap(uid=uid, kind=kind, at_s=time_s, data=_data(kind, data if isinstance(data, dict) else {}))


def _data(kind: str, data: dict[str, Any]) -> dict[str, Any]:
    if kind == "marker":
        if data.get("what") not in _ALL_MARKERS:
            raise InputError(f"“{str(data.get('what'))[:20]}” is not a marker")
        return {"what": data["what"]}
    if kind == "next":
        step = data.get("step")
        return {"step": step if isinstance(step, int) and not isinstance(step, bool) and 0 <= step < 100 else 0}
    if kind == "after":
        ended, heat, rating = data.get("ended"), data.get("heat"), data.get("rating")
        motors = heat if isinstance(heat, dict) else {}
        measured = data.get("celsius")
        return {
            "ended": ended if ended in ENDS else "as_planned",
            "celsius": _celsius(measured if isinstance(measured, dict) else {}),
            "heat": {clean_text(key, most=2): value for key, value in list(motors.items())[:12] if value in HEATS},
            "rating": rating if isinstance(rating, int) and not isinstance(rating, bool) and 1 <= rating <= 5 else None,
            "note": clean_text(data.get("note"), most=_MOST_NOTE),
        }
    return {}


def _celsius(motors: dict[str, Any]) -> dict[str, float]:
    """What a thermometer said of each motor; what no motor has is left out."""
    known = list(motors.items())[:12]
    return {
        clean_text(key, most=2): celsius
        for key, value in known
        if (celsius := finite(value, low=_COLDEST_C, high=_HOTTEST_C)) is not None
    }


# how far taps and a log may disagree about the time in the air, and how much farther another has to be (our own, no source)
_NEAR_S, _NEAR_RATIO, _CLEARLY = 4.0, 0.1, 2.0


def best_fit(airborne_s: float, tapped_s: Mapping[int, float | None]) -> int | None:
    """Which outing's tapped time in the air is that of a log; None where none fits, or two do.

    >>> best_fit(62.0, {1: 63.5, 2: 31.0}), best_fit(62.0, {1: 63.5, 2: 61.0}), best_fit(62.0, {1: 20.0, 2: None})
    (1, None, None)
    """
    apart = sorted((abs(own - airborne_s), key) for key, own in tapped_s.items() if own is not None)
    near_s = max(_NEAR_S, _NEAR_RATIO * airborne_s)
    if not apart or apart[0][0] > near_s:
        return None
    return apart[0][1] if len(apart) == 1 or apart[1][0] > max(near_s, _CLEARLY * apart[0][0]) else None


def touch_of(celsius: float) -> str:
    """What a hand would say of a motor's temperature [°C].

    >>> [touch_of(value) for value in (30, 50, 75)]
    ['cool', 'warm', 'hot']
    """
    return "hot" if celsius >= _HOT_C else "warm" if celsius >= _WARM_C else "cool"


@dataclass(frozen=True, slots=True, kw_only=True)
class Told:
    """What all entries of one outing say; times in seconds from the tapped take-off."""

    flew: bool
    markers: tuple[tuple[float, str], ...]
    steps: tuple[tuple[float, int], ...]  # when each manoeuvre began
    bad_sign_s: float | None
    landed_s: float | None
    ended: str  # as_planned, aborted, crashed
    heat: dict[str, str]  # motor → cool, warm, hot
    celsius: dict[str, float]  # motor → °C, where it was measured
    rating: int | None
    note: str

    @property
    def hottest(self) -> str:
        touched = [*self.heat.values(), *map(touch_of, self.celsius.values())]
        return max(touched, key=HEATS.index, default="")

    @property
    def motors(self) -> list[tuple[str, str]]:
        """Each motor with what was felt and measured: “2”, “hot, 71 °C”."""
        named = dict.fromkeys([*self.heat, *self.celsius])
        measured = {key: f"{value:.0f} °C" for key, value in self.celsius.items()}
        return [(key, ", ".join(filter(None, (self.heat.get(key, ""), measured.get(key, ""))))) for key in named]


def told_by(taps: Iterable[Tap]) -> Told:
    """Entries of any number of phones in any order, each once: the last word on how it ended counts.

    A bad sign without a later word on the end is an abort.

    >>> taps = [Tap(uid="a", kind="take_off", at_s=10.0), Tap(uid="b", kind="marker", at_s=14.5, data={"what": "buzz"})]
    >>> told_by(taps).markers
    ((4.5, 'buzz'),)
    """
    ordered = sorted({tap.uid: tap for tap in taps}.values(), key=lambda tap: tap.at_s)
    start_s = next((tap.at_s for tap in ordered if tap.kind == "take_off"), None)
    after = next((tap.data for tap in reversed(ordered) if tap.kind == "after"), {})

    def since(kind: str) -> float | None:
        found = next((tap.at_s for tap in ordered if tap.kind == kind), None)
        return None if found is None or start_s is None else round(found - start_s, 3)

    def all_of(kind: str, key: str) -> tuple[tuple[float, Any], ...]:
        return tuple((round(tap.at_s - (start_s or 0.0), 3), tap.data.get(key)) for tap in ordered if tap.kind == kind)

    bad_sign_s = since("bad_sign")
    return Told(
        flew=start_s is not None,
        markers=all_of("marker", "what"),
        steps=all_of("next", "step"),
        bad_sign_s=bad_sign_s,
        landed_s=since("landed"),
        ended=str(after.get("ended") or ("aborted" if bad_sign_s is not None else "as_planned")),
        heat=dict(after.get("heat", {})),
        celsius=dict(after.get("celsius", {})),
        rating=after.get("rating"),
        note=str(after.get("note", "")),
    )
