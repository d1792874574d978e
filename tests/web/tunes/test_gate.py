"""The gate at the form of a slip: what must not be flown, what needs a reason, and what is no matter of it."""

import pytest
from django.test import Client

from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Slip
from tests.flying import log_file
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize(
    ("group", "name", "value", "told"),
    [
        ("idle", "motor floor %", "8", ""),  # no gain and no filter
        ("pd.roll", "p on roll", "47", ""),
        ("pd.roll", "p on roll", "60", "P of roll changes by a factor of 1.4 in one flight"),
        ("pd.roll", "p on roll", "400", "these settings must not be flown: roll would oscillate"),
    ],
)
def test_a_typed_change_passes_needs_a_reason_or_is_refused(
    client: Client, craft: Craft, attach, group: str, name: str, value: str, told: str
) -> None:
    attach(log_file(5))
    address = f"/craft/{craft.pk}/slips/new/"
    sent = fields_of(client.get(f"{address}?group={group}").content.decode()) | {"title": "A change", f"value-{name}": value}
    answer = client.post(address, sent)
    assert told in answer.content.decode()
    assert answer.status_code == (400 if told else 302)
    again = client.post(address, sent | {"beyond": "close and low, over grass"})
    assert again.status_code == (400 if "must not" in told else 302)
    assert Slip.objects.count() == (0 if "must not" in told else 1)
