"""Packs, what fits into them, and cards of one's own."""

import pytest
from django.test import Client

from nembrit.web.flights.models import OwnCard
from nembrit.web.flights.services import card_choices
from nembrit.web.hangar.models import Craft
from nembrit.web.packs import services
from nembrit.web.packs.models import Pack
from tests.pageforms import fields_of

GIVEN = {"name": "Red 1", "chemistry": "lipo", "cells": "4", "capacity_mah": "1500", "cycles_before": "12", "note": ""}
pytestmark = pytest.mark.django_db


@pytest.fixture
def pack(client: Client) -> Pack:
    client.post("/packs/", GIVEN)
    return Pack.objects.get()


class TestPacks:
    def test_a_pack_from_its_label_to_its_flights(self, client: Client, craft: Craft, attach, act, pack: Pack) -> None:
        attach(pack="red 1")
        act(f"/packs/{pack.pk}/note/", kind="charged", rest_v="16.7")
        page = act(f"/packs/{pack.pk}/note/", kind="measured", rest_v="15,9", loaded_v="14.6")
        assert "3.98" in page
        assert "3.65" in page
        assert "part used" in page
        assert f'href="{craft.flights.get().get_absolute_url()}"' in page
        listed = client.get("/packs/").content.decode()
        assert "Red 1" in listed
        assert ">13<" in listed
        assert "14.0" in listed
        given = fields_of(client.get(f"/packs/{pack.pk}/").content.decode())
        act(f"/packs/{pack.pk}/", **given | {"name": "Red one"})
        assert craft.flights.get().pack == "Red one"
        act(f"/packs/{pack.pk}/retire/", retired="1")
        assert services.fitting(craft) == []

    @pytest.mark.parametrize(
        ("fields", "told"),
        [
            ({"name": "red 1"}, "already"),
            ({"name": ""}, "required"),
            ({"name": "2", "cells": "0"}, "greater than or equal to 1"),
            ({"name": "2", "capacity_mah": "a lot"}, "should be a number"),
            ({"name": "2", "chemistry": "lead"}, "valid choice"),
        ],
    )
    def test_no_pack_is_made_of_what_none_is(self, client: Client, pack: Pack, fields: dict[str, str], told: str) -> None:
        answer = client.post("/packs/", GIVEN | fields)
        assert answer.status_code == 400
        assert told in answer.content.decode()
        assert Pack.objects.count() == 1

    @pytest.mark.parametrize(
        ("fields", "told"),
        [
            ({"kind": "measured"}, "needs a voltage"),
            ({"kind": "measured", "rest_v": "25"}, "6.25 V per cell"),
            ({"kind": "measured", "rest_v": "15", "loaded_v": "16"}, "under load the voltage must be lower"),
            ({"kind": "blown"}, "valid choice"),
        ],
    )
    def test_no_note_is_made_of_voltages_that_cannot_be(self, act, pack: Pack, fields: dict[str, str], told: str) -> None:
        assert told in act(f"/packs/{pack.pk}/note/", **fields)
        assert not pack.entries.exists()

    def test_a_pack_on_no_list_is_taken_and_offered(self, client: Client, craft: Craft, attach) -> None:
        flight = attach(pack="Blue 7")
        assert flight.pack == "Blue 7"
        assert "Blue 7" in client.get("/packs/").content.decode()
        assert services.unlisted() == ["Blue 7"]

    def test_how_often_a_card_fits(self, client: Client, craft: Craft, attach, pack: Pack) -> None:
        unknown = client.get(f"/craft/{craft.pk}/fit/?card_key=response").content.decode()
        assert "are unknown" in unknown
        attach()
        current = services.mean_current_a(craft)
        assert current is not None
        fit = services.fit_of("response", craft)
        assert fit is not None
        assert fit.n_tests == int(0.8 * 1500 * 3.6 / current / fit.card_s)
        assert f"fits {fit.n_tests} time" in client.get(f"/craft/{craft.pk}/fit/?card_key=response").content.decode()
        assert client.get(f"/craft/{craft.pk}/fit/?card_key=nothing").status_code == 404


class TestOwnCards:
    def test_a_card_is_composed_flown_and_put_away(self, client: Client, craft: Craft, act, attach) -> None:
        asked = client.get("/cards/new/?kind=multirotor&question=wash").content.decode()
        given = fields_of(asked)
        assert given["step"]
        page = act("/cards/new/", **given | {"step": ["punch", "hover"], "name": "Mine", "kind": "multirotor"})
        assert "never changes" in page
        assert page.index("Hover") < page.index("Throttle punch")
        own = OwnCard.objects.get()
        assert own.key in dict(card_choices("multirotor"))
        assert own.key not in dict(card_choices("fixed_wing"))
        flight = attach(card_key=own.key)
        act(f"/cards/{own.pk}/away/")
        assert own.key not in dict(card_choices("multirotor"))
        edited = client.get(f"{flight.get_absolute_url()}edit/").content.decode()
        assert fields_of(edited)["card_key"] == own.key
        assert "Throttle punch" in client.get(f"/cards/{own.key}/").content.decode()

    @pytest.mark.parametrize(
        ("fields", "told"),
        [
            ({"name": ""}, "required"),
            ({"name": "Mine", "step": []}, "at least one"),
            ({"name": "Mine", "step": ["circles"]}, "no manoeuvre for this craft"),
        ],
    )
    def test_no_card_is_kept_of_what_cannot_be_flown(self, client: Client, fields: dict[str, object], told: str) -> None:
        answer = client.post("/cards/new/", {"kind": "multirotor", "step": ["hover"], **fields})
        assert answer.status_code == 400
        assert told in answer.content.decode()
        assert not OwnCard.objects.exists()

    def test_two_cards_of_one_name_are_not_kept(self, client: Client) -> None:
        given = {"kind": "multirotor", "step": ["hover"], "name": "Mine"}
        assert client.post("/cards/new/", given).status_code == 302
        assert "another name" in client.post("/cards/new/", given | {"name": "MINE"}).content.decode()
