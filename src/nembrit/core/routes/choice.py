"""Which way of finding gains fits, from four answers (common practice, no source)."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Route:
    """One way, in words."""

    label: str
    about: str


ROUTES = {
    "similar": Route(
        label="Values of a similar craft",
        about="Start from the settings of a craft with like propellers, mass and cells. One slip, one careful first flight.",
    ),
    "log_first": Route(
        label="Log first",
        about="Fly one card, read the log once, set filters, then move the gains together. Few flights, needs a logger.",
    ),
    "automatic": Route(
        label="Automatic tune",
        about="The controller finds gains itself. You check how far runs agree, and verify the result like any other.",
    ),
    "step_up": Route(
        label="Step up by feel",
        about="One value rises by one step a flight until the first bad sign. Needs no logger, but many short flights.",
    ),
    "own": Route(label="Own way", about="Write slips as you like. Nembrit keeps the ledger and judges the flights."),
}  # fmt: skip
_STEP_UP_FLIGHTS, _LOG_FIRST_FLIGHTS = 20, 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """How one route fits: `word` is fits, possible or not now."""

    route: str
    word: str
    why: str


def fits(
    *, flyable: str, logger: str, automatic: str, n_tests: int, is_plane: bool = False, has_settings: bool = True
) -> tuple[Fit, ...]:
    """Every route with its reason, the best fit first.

    Parameters
    ----------
    flyable, logger, automatic : str
        “yes”, “no” or “unknown”: whether the craft can be flown, whether it logs, whether its controller can tune itself.
    n_tests : int
        Half-minute tests that the packs at hand carry.
    is_plane : bool
        A plane's gains are found automatically or by its log; stepping up by feel is for multirotors.
    has_settings : bool
        Whether any settings are saved.
    """
    found = [
        _similar(flyable, has_settings), _log_first(flyable, logger, n_tests), _automatic(flyable, automatic, is_plane),
        _step_up(flyable, logger, n_tests, is_plane),
        Fit(route="own", word="possible", why="You decide what changes next."),
    ]  # fmt: skip
    order = {"fits": 0, "possible": 1, "not now": 2}
    return tuple(sorted(found, key=lambda one: order[one.word]))


def _similar(flyable: str, has_settings: bool) -> Fit:
    if flyable == "no":
        return Fit(route="similar", word="fits", why="It cannot be flown yet: values of a similar craft are the quickest start.")
    if not has_settings:
        return Fit(route="similar", word="possible", why="No settings are saved: save yours first, then compare.")
    return Fit(route="similar", word="possible", why="It flies already: take single values only.")


def _log_first(flyable: str, logger: str, n_tests: int) -> Fit:
    if flyable == "no":
        return Fit(route="log_first", word="not now", why="It must hover before a log says anything about gains.")
    if logger == "yes":
        more = "" if n_tests >= _LOG_FIRST_FLIGHTS else f" Charge packs for {_LOG_FIRST_FLIGHTS} tests."
        return Fit(route="log_first", word="fits", why=f"One log shows filters and gains at once.{more}")
    if logger == "no":
        return Fit(route="log_first", word="not now", why="It needs a log of gyro and set-point.")
    return Fit(route="log_first", word="possible", why="Check whether your controller can log gyro and set-point.")


def _automatic(flyable: str, automatic: str, is_plane: bool) -> Fit:
    if automatic == "no":
        return Fit(route="automatic", word="not now", why="Your controller cannot tune itself.")
    if flyable == "no":
        return Fit(route="automatic", word="not now", why="It must hold its height before the controller can tune it.")
    room = "a high, empty field" if is_plane else "calm air, a large open area and 10 to 15 minutes on a full pack"
    if automatic == "yes":
        return Fit(route="automatic", word="fits", why=f"Your controller can do it. It needs {room}.")
    return Fit(route="automatic", word="possible", why=f"Look whether your controller can tune itself. It needs {room}.")


def _step_up(flyable: str, logger: str, n_tests: int, is_plane: bool) -> Fit:
    if is_plane:
        return Fit(route="step_up", word="not now", why="This route is for multirotors.")
    if flyable == "no":
        return Fit(route="step_up", word="possible", why="The route starts by lowering everything until it hovers well.")
    tests = f"Your packs carry {n_tests} tests of half a minute; it takes about {_STEP_UP_FLIGHTS}."
    if logger == "no":
        return Fit(route="step_up", word="fits", why=f"It needs no logger. {tests}")
    word = "fits" if n_tests >= _STEP_UP_FLIGHTS and logger != "yes" else "possible"
    return Fit(route="step_up", word=word, why=f"{tests} A log confirms or contradicts what you feel.")
