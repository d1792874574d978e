"""What is looked at before a flight, by kind of craft (common practice, no source), and when not to fly."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One thing to look at. Only with all of them is it a go."""

    key: str
    text: str
    kinds: tuple[str, ...] = ("multirotor", "fixed_wing")


_CHECKS = (
    Check(key="packs", text="Packs full: craft, radio, ground station"),
    Check(key="propellers", text="Propellers undamaged, tight, right way round"),
    Check(key="screws", text="Screws, straps, antenna and battery secure"),
    Check(key="surfaces", text="Every surface moves the right way and centres correctly", kinds=("fixed_wing",)),
    Check(key="balance", text="Centre of gravity correct", kinds=("fixed_wing",)),
    Check(key="log", text="The recorder is on and has space"),
    Check(key="settings", text="The settings on the craft are those of this flight"),
    Check(key="failsafe", text="Failsafe understood; return height above trees, wires and houses"),
    Check(key="space", text="Enough space, people and animals away, soft ground"),
    Check(key="law", text="Allowed here: local law, club rules, height, insurance"),
    Check(key="stop", text="I said aloud what makes me stop"),
)
MOST_WIND_M_S = {"multirotor": 8.0, "fixed_wing": 10.0}  # beyond it tuning flights say nothing (common practice, no source)


def checks_for(kind: str) -> tuple[Check, ...]:
    """The list for one kind of craft, in the order of a walk round it.

    >>> [check.key for check in checks_for("fixed_wing")][3:5]
    ['surfaces', 'balance']
    """
    return tuple(check for check in _CHECKS if kind in check.kinds)


def missing(kind: str, ticked: set[str], wind_m_s: float | None) -> list[str]:
    """What stands against flying; empty is a go.

    >>> missing("multirotor", {check.key for check in checks_for("multirotor")}, 12.0)
    ['wind of 12 m/s: beyond 8 m/s a tuning flight is worthless']
    """
    found = [check.text for check in checks_for(kind) if check.key not in ticked]
    most = MOST_WIND_M_S.get(kind, 8.0)
    if wind_m_s is not None and wind_m_s > most:
        found.append(f"wind of {wind_m_s:g} m/s: beyond {most:g} m/s a tuning flight is worthless")
    return found
