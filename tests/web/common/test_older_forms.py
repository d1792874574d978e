"""Forms that stood open while what they change was changed elsewhere: refused, with what changed, and nothing typed is lost."""

import pytest
from django.test import Client

from nembrit.core.errors import InputError
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Channel
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.services import make_slip, tune_of
from tests.pageforms import fields_of


def test_a_value_goes_to_its_name_however_the_list_is_ordered(client: Client, craft: Craft) -> None:
    """The flight-safety fault: a slip stands open while the settings are pasted again in another order."""
    address = f"/craft/{craft.pk}/slips/new/?group=pd.roll"
    form = fields_of(client.get(address).content.decode())
    lines = [f"{setting.name} = {setting.value}" for setting in hangar.core_settings(craft.configurations.first())]
    hangar.paste_configuration(craft, "\n".join(["lamp = 3", *reversed([line for line in lines if "lamp" not in line])]))
    typed = form | {"value-p on roll": "99.5", "title": "more P", "primary_metric": "motor_roughness", "direction": "lower"}
    answer = client.post(address, typed)
    page = answer.content.decode()
    assert answer.status_code == 409
    assert "from r1 to r2 (“lamp”: amber → 3)" in page
    assert not Slip.objects.exists()
    again = fields_of(page)
    assert (again["value-p on roll"], again["value-d on roll"]) == ("99.5", "35")
    assert client.post(address, again).status_code == 302
    changed = {one.name: one.after for one in hangar.diff(*craft.configurations.order_by("number")[1:3])}
    assert changed == {"p on roll": "99.5"}


def test_a_name_map_of_before_moves_nothing(client: Client, craft: Craft) -> None:
    address = f"/craft/{craft.pk}/names/"
    form = fields_of(client.get(address).content.decode())
    lines = [f"{setting.name} = {setting.value}" for setting in hangar.core_settings(craft.configurations.first())]
    hangar.paste_configuration(craft, "\n".join(["colour = red", *reversed(lines)]))
    before = hangar.name_map(craft)
    answer = client.post(address, form)
    assert answer.status_code == 409
    assert hangar.name_map(craft) == before
    assert client.post(address, fields_of(answer.content.decode())).status_code == 302
    assert hangar.name_map(craft) == before, "the same meanings, whatever the order"


def test_two_tabs_on_a_name_map(client: Client, craft: Craft) -> None:
    address = f"/craft/{craft.pk}/names/"
    first, second = (fields_of(client.get(address).content.decode()) for _ in range(2))
    assert client.post(address, first | {"meaning-lamp": "other"}).status_code == 302
    answer = client.post(address, second | {"scale-p on roll": "0.5"})
    page = answer.content.decode()
    assert (answer.status_code, "Settings changed since this page was opened" in page) == (409, True)
    assert fields_of(page)["scale-p on roll"] == "0.5"
    assert "saved: " in page
    assert hangar.name_map(craft)["lamp"].key == "other"


def test_two_tabs_on_a_flight(client: Client, attach) -> None:
    flight = attach()
    address = f"{flight.get_absolute_url()}edit/"
    first, second = (fields_of(client.get(address).content.decode()) for _ in range(2))
    assert client.post(address, first | {"notes": "buzzed on roll"}).status_code == 302
    answer = client.post(address, second | {"notes": "flew <b>fine</b>", "heat": "warm"})
    page = answer.content.decode()
    assert (answer.status_code, "saved meanwhile: buzzed on roll" in page) == (409, True)
    flight.refresh_from_db()
    assert flight.notes == "buzzed on roll"
    assert client.post(address, fields_of(page) | {"notes": "buzzed on roll; flew fine"}).status_code == 302
    flight.refresh_from_db()
    assert (flight.notes, flight.heat) == ("buzzed on roll; flew fine", "warm")


def test_two_tabs_on_the_meanings_of_a_log(client: Client, attach, act) -> None:
    log = attach().segments.get().log
    address = f"/logs/{log.pk}/meanings/"
    first, second = (fields_of(client.get(address).content.decode()) for _ in range(2))
    field = next(name for name, value in first.items() if value == "throttle")
    act(address, **first | {field: ""})
    answer = client.post(address, second)
    assert (answer.status_code, "changed since the page was opened" in answer.content.decode()) == (409, True)
    assert not Channel.objects.filter(stream__log=log, role="throttle").exists()


def test_a_revision_that_is_gone_is_told(craft: Craft, slip_text) -> None:
    with pytest.raises(InputError, match="settings changed since this page was opened; the latest are r1"):
        make_slip(tune_of(craft), group="pd.roll", text=slip_text, values={"d on roll": "24"}, shown_from=999)


def test_two_tabs_on_a_craft_and_one_put_away(client: Client, craft: Craft) -> None:
    address = f"/craft/{craft.pk}/edit/"
    opened = fields_of(client.get(address).content.decode())
    assert client.post(address, opened | {"about": "mine", "cells": "99"}).status_code == 400
    assert client.post(address, opened | {"about": "first tab"}).status_code == 302
    late = client.post(address, opened | {"about": "second tab"})
    assert late.status_code == 409
    page = late.content.decode()
    assert "saved meanwhile: first tab" in page
    client.post(address, fields_of(page))
    craft.refresh_from_db()
    assert craft.about == "second tab"
    client.post(f"/craft/{craft.pk}/archive/", {"archived": "1"})
    assert f'Archived: <a href="{address}">' in client.get("/").content.decode()
    client.post(f"/craft/{craft.pk}/archive/", {"archived": "0"})
    assert "Put away" not in client.get("/").content.decode()


def test_other_blades_are_other_answers(client: Client, craft: Craft, attach) -> None:
    results = attach().segments.get().results
    address = f"/craft/{craft.pk}/edit/"
    opened = fields_of(client.get(address).content.decode())
    client.post(address, opened | {"about": "the same blades"})
    assert results.exists()
    opened = fields_of(client.get(address).content.decode())
    client.post(address, opened | {"propeller_blades": "2"})
    assert not results.exists()
