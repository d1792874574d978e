"""The page of sums: filled in from the craft, worked out from the address, wrong input said beside its sum."""

import numpy as np
import pytest
from django.test import Client

from nembrit.core.formats import nembrit_csv
from nembrit.core.simulate.flight import DECIMALS, write_order
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.packs.models import Pack
from tests.flying import HEX, flown

pytestmark = pytest.mark.django_db


def page_of(client: Client, craft: Craft, **given: str) -> str:
    answer = client.get(f"/craft/{craft.pk}/sums/", given)
    assert answer.status_code == 200
    return answer.content.decode()


def test_sums_are_filled_in_from_settings_packs_and_craft(client: Client, craft: Craft) -> None:
    Pack.objects.create(name="A", cells=craft.cells, chemistry=craft.chemistry, capacity_mah=1800)
    page = page_of(client, craft)
    for told in ('name="output_hz" id="id_output_hz" value="4000"', 'name="full_dps" id="id_full_dps" value="560"',
                 'name="capacity" id="id_capacity" value="1800"', "ms in all", "deg/s per percent of stick", "Blade pass at",
                 "flights per side", "min to landing", "Turn back at", "Noise at 20 kHz falls"):  # fmt: skip
        assert told in page
    assert "Range out and back" not in page


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"output_hz": "490"}, "A faster rate"),
        ({"full_dps": "700", "half_dps": "150"}, "Soft around the centre: 1.7 deg/s"),
        ({"rpm": "24000", "diameter_in": "5", "blades": "3"}, "Blade pass at 1200 Hz, tips at 160 m/s"),
        ({"change_pct": "1", "scatter_pct": "50"}, "make flights more alike first"),
        ({"capacity": "1500", "current": "18"}, "4.0 min to landing, 300 mAh in reserve"),
        ({"signal": "-70", "at": "200", "limit": "-96", "spare": "6"}, "Turn back at 2000 m"),
        ({"cap_mohm": "5"}, "It rings"),
        ({"output_hz": "fast"}, "Motor updates, Hz should be a number, not “fast”"),
        ({"full_dps": "600", "half_dps": "20"}, "do not fit 600 at full"),
        ({"blades": "2.5"}, "blades should be a whole number"),
        ({"load": "0"}, "load current: expected"),
        ({"rpm": "nan"}, "should be a number"),
        ({"signal": "-99"}, "turn back earlier"),
    ],
)
def test_what_is_typed_is_worked_out_or_refused(client: Client, craft: Craft, given: dict[str, str], told: str) -> None:
    page = page_of(client, craft, **given)
    assert told in page
    assert all(f'value="{value}"' in page for value in given.values())


def test_a_plane_is_asked_for_its_range(client: Client, db: None) -> None:
    plane = hangar.create_craft(layout=None, name="Kite", kind="fixed_wing", propeller_diameter_in=11.0)
    page = page_of(client, plane, airspeed="15", wind="5", cruise_a="5", usable="1666.667")
    assert "Turn back at 8.0 km at the latest" in page
    assert "Delay of the control loop" not in page
    assert "never comes home" in page_of(client, plane, airspeed="8", wind="9", cruise_a="5", usable="1500")


def test_link_quality_over_distance_comes_from_the_newest_flight_with_both(client: Client, craft: Craft, attach) -> None:
    own = flown(5)
    away = 8.0 * own.t_s
    columns = [(role, own.channels[role]) for role in write_order(HEX)]
    columns += [("link_quality", np.where(away < 120, 0.99, 0.7)), ("home_distance", away)]
    flight = attach(nembrit_csv.write(columns, own.t_s, decimals=DECIMALS | {"link_quality": 2, "home_distance": 1}))
    page = page_of(client, craft)
    assert f"flight {flight.number}, 0 to 50 m" in page
    assert "70%, 95 % of the time 70% or more" in page
