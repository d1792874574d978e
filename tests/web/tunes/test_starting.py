"""Starting values through the page: table, similar craft, file; one slip with the careful first card."""

import json

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, latest_configuration
from nembrit.web.tunes.models import Slip
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def sister(craft: Craft) -> Craft:
    made = hangar.create_craft(layout="hex", name="Sister", kind="multirotor", propeller_diameter_in=6.0)
    hangar.paste_configuration(made, "p on roll = 47\nd on roll = 33\nlamp = red\n")
    hangar.save_name_map(made, {name: entry for name, entry in _names(craft).items() if name in ("p on roll", "d on roll")})
    return made


def _names(craft: Craft) -> dict[str, tuple[str, float | None]]:
    return {one.name: (one.meaning, one.scale) for one in craft.name_map.all()}


def test_values_of_a_similar_craft_are_shown_and_written_as_one_slip(client: Client, craft: Craft, sister: Craft, act) -> None:
    here = f"/craft/{craft.pk}/route/starting-values/"
    page = client.get(here).content.decode()
    assert "Sister" in page
    assert "Propeller 6 in, here 6 in: alike" in page
    page = client.get(here, {"source": str(sister.pk)}).content.decode()
    assert "2 values would change: Sister" in page
    assert "Sister flies 47" in page
    form = fields_of(page) | {"use": ["p on roll"], "value-p on roll": "46", "write": "1"}
    assert "Slip 1 is written" in act(here, **form)
    slip = Slip.objects.get()
    assert (slip.group, slip.card_key, slip.title) == ("start", "first_hover", "Starting values from Sister")
    latest = latest_configuration(craft)
    assert latest is not None
    now = {one.name: one.value for one in core_settings(latest)}
    assert (now["p on roll"], now["d on roll"]) == ("46", "35")


def test_the_table_gives_a_range_with_its_reason(client: Client, craft: Craft) -> None:
    page = client.get(f"/craft/{craft.pk}/route/starting-values/", {"source": "table"}).content.decode()
    assert "the table by propeller size" in page
    assert "large propellers turn slower" in page.lower()


def test_a_file_gives_what_its_craft_gives_and_others_are_refused(client: Client, craft: Craft, sister: Craft, act) -> None:
    here = f"/craft/{craft.pk}/route/starting-values/"
    answer = client.get(f"/craft/{sister.pk}/route/starting-values.json")
    assert json.loads(answer.content)["format"] == "nembrit.start/1"
    page = client.post(here, {"file": SimpleUploadedFile("values.json", answer.content)}).content.decode()
    assert "2 values would change: Sister" in page
    bad = client.post(here, {"file": SimpleUploadedFile("values.json", b"[]")})
    assert bad.status_code == 400
    assert "this is no file of starting values" in bad.content.decode()
    assert not Slip.objects.exists()


@pytest.mark.parametrize(("source", "told"), [("999", "that craft is gone"), ("x", "that craft is gone")])
def test_a_source_that_is_gone_is_said(client: Client, craft: Craft, source: str, told: str) -> None:
    assert told in client.get(f"/craft/{craft.pk}/route/starting-values/", {"source": source}).content.decode()


def test_without_settings_nothing_is_proposed(client: Client, craft: Craft, act) -> None:
    craft.configurations.all().delete()
    page = client.get(f"/craft/{craft.pk}/route/starting-values/", {"source": "table"}).content.decode()
    assert "save the present settings first" in page
    assert "Nothing was exported" in client.get(f"/craft/{craft.pk}/route/starting-values.json", follow=True).content.decode()
