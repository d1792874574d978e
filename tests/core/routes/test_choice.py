"""Which route fits which answers (common practice, no source)."""

import pytest

from nembrit.core.routes.choice import ROUTES, fits

BASE = {"flyable": "yes", "logger": "yes", "automatic": "no", "n_tests": 20}


@pytest.mark.parametrize(
    ("change", "best"),
    [
        ({}, "log_first"),
        ({"logger": "no"}, "step_up"),
        ({"flyable": "no"}, "similar"),
        ({"logger": "no", "automatic": "yes", "n_tests": 4}, "automatic"),
        ({"logger": "no", "automatic": "yes", "is_plane": True}, "automatic"),
    ],
)
def test_the_best_fit_comes_first_with_its_reason(change: dict, best: str) -> None:
    found = fits(**(BASE | change))
    assert found[0].route == best
    assert {one.route for one in found} == set(ROUTES)
    assert all(one.why.endswith(".") for one in found)


@pytest.mark.parametrize(
    ("change", "route"),
    [({"flyable": "no"}, "log_first"), ({"flyable": "no"}, "automatic"), ({"logger": "no"}, "log_first"),
     ({"is_plane": True}, "step_up"), ({"automatic": "no"}, "automatic")],
)  # fmt: skip
def test_what_cannot_be_done_now_is_said(change: dict, route: str) -> None:
    assert next(one for one in fits(**(BASE | change)) if one.route == route).word == "not now"


def test_less_known_never_fits_better() -> None:
    order = {"fits": 0, "possible": 1, "not now": 2}
    for key in ("flyable", "logger", "automatic"):
        sure, unsure = (fits(**(BASE | {key: value})) for value in ("yes", "unknown"))
        for route in ("log_first", "automatic"):
            words = [order[next(one for one in side if one.route == route).word] for side in (sure, unsure)]
            assert words[1] >= words[0]
