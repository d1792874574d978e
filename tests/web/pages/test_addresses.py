"""A flight's address holds the number that its title shows, whatever its key in the workshop."""

import pytest
from django.test import Client

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft


@pytest.fixture
def second(craft: Craft, attach) -> Flight:
    """Flight 1 of the second craft: its key is another number."""
    attach()
    other = Craft.objects.create(name="Sorrel")
    return Flight.objects.create(craft=other, number=1, flown_at="2026-05-01T10:00Z")


def test_address_and_title_show_one_number(client: Client, second: Flight) -> None:
    address = second.get_absolute_url()
    assert address == f"/craft/{second.craft_id}/flights/1/"
    assert second.pk != second.number
    assert "Flight 1" in client.get(address).content.decode()
    assert f'href="{address}edit/"' in client.get(address).content.decode()


def test_former_addresses_lead_to_the_present_ones(client: Client, second: Flight) -> None:
    answer = client.get(f"/flights/{second.pk}/noise/?axis=yaw&kind=hover")
    assert (answer.status_code, answer["Location"]) == (301, f"{second.get_absolute_url()}noise/?axis=yaw&kind=hover")


def test_what_is_not_there_is_not_found(client: Client, second: Flight) -> None:
    for address in ("/flights/99/", "/craft/1/flights/99/", "/craft/9/flights/1/", "/craft/2/flights/999999999/noise/"):
        assert client.get(address).status_code == 404, address
