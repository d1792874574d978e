"""One next step: the same words on every page, an open slip and a locked tune before the flight's own decision."""

import re
from html import unescape

import pytest
from django.test import Client

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.models import Tune
from tests.flying import log_file

pytestmark = pytest.mark.django_db


def said(client: Client, address: str) -> str:
    return unescape(re.sub(r"<[^>]+>|\s+", " ", client.get(address).content.decode())).replace("  ", " ")


@pytest.fixture(params=["sound", "no settings", "settings unflown", "loose mount"])
def case(request: pytest.FixtureRequest, craft: Craft, attach) -> str:
    attach(log_file(5, loose_mount=1.0 if request.param == "loose mount" else 0.0))
    if request.param == "no settings":
        Flight.objects.update(configuration=None)
        Configuration.objects.all().delete()
    if request.param == "settings unflown":
        tunes.add_configuration(craft, tunes.core_settings(craft.configurations.get())[:-1], source="pasted")
    return str(request.param)


def test_every_page_says_the_same(client: Client, craft: Craft, case: str) -> None:
    flight = craft.flights.get()
    words = " ".join(advice_of(craft).words.split())
    told = {
        "sound": "Motor noise is", "no settings": "Save the settings first, then write it",
        "settings unflown": "not flown yet: fly them first", "loose mount": "Mechanics first",
    }[case]  # fmt: skip
    assert told in words
    for address in ("/", f"/craft/{craft.pk}/", f"/craft/{craft.pk}/tune/", f"/craft/{craft.pk}/slips/new/",
                    f"/craft/{craft.pk}/tune/report/", f"/craft/{craft.pk}/next/?flight={flight.pk}"):  # fmt: skip
        assert words in said(client, address), address
    for page in ("", "response/", "filters/", "gains/", "noise/", "vibration/"):
        assert f"/craft/{craft.pk}/next/?flight={flight.pk}" in client.get(f"{flight.get_absolute_url()}{page}").content.decode()


def test_a_locked_tune_offers_no_comfort_and_writes_no_slip(client: Client, craft: Craft, attach) -> None:
    attach(log_file(5))
    tunes.tune_of(craft)
    Tune.objects.update(stage="locked")
    assert advice_of(craft).words.startswith("Locked in")
    page = client.get(f"/craft/{craft.pk}/slips/new/?group=pd.roll").content.decode()
    assert "Start another tune" in page
