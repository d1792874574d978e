"""What only a person can answer about a new craft, asked once, in one place."""

import pytest
from django.test import Client

from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import create_craft
from nembrit.web.tunes import first_steps

pytestmark = pytest.mark.django_db


def left(craft: Craft) -> list[str]:
    craft.refresh_from_db()
    return [one.key for one in first_steps.questions_of(craft) if one.is_left]


@pytest.mark.parametrize(
    ("kind", "layout", "asked"),
    [("multirotor", "quad", ["settings", "motors", "log"]), ("fixed_wing", None, ["settings", "surfaces", "log"])],
)
def test_a_new_craft_asks_few_things_each_with_a_default(client: Client, kind: str, layout: str | None, asked: list[str]) -> None:
    craft = create_craft(layout=layout, name="Sorrel", kind=kind)
    assert left(craft) == asked
    address = f"/craft/{craft.pk}/start/"
    assert f"{len(asked)} questions left about Sorrel" in client.get(address).content.decode()
    assert f"{len(asked)} questions left" in " ".join(client.get(f"/craft/{craft.pk}/").content.decode().split())
    for key in asked:
        client.post(address, {"skip": key})
    assert left(craft) == []
    assert "Sorrel is ready" in client.get(address).content.decode()


def test_answers_given_elsewhere_count_and_unknown_questions_are_refused(client: Client, craft: Craft, attach) -> None:
    attach()
    assert "motors" in left(craft)
    assert "settings" not in left(craft)
    page = client.post(f"/craft/{craft.pk}/start/", {"skip": "weather"}, follow=True).content.decode()
    assert "this craft has no such question" in page
    first_steps_page = client.get(f"/craft/{craft.pk}/start/").content.decode()
    assert "Open the first finding: flight 1" in first_steps_page
