"""Obstacles, rules of a return and radio line of sight, by their pages."""

import json

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from nembrit.web.ground.models import Obstacle, Profile
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft

pytestmark = pytest.mark.django_db
OAK = {"name": "oak", "height_m": "22", "kind": "Point", "places": "51.501, -1.502", "back": ""}
RIDGE = "distance_m,ground_m\n" + "".join(f"{d},{32 if d == 1000 else 0}\n" for d in range(0, 2001, 25))
GRID = "ncols 4\nnrows 3\nxllcorner 0\nyllcorner 0\ncellsize 0.01\n" + "1 1 1 1\n5 5 5 5\n9 9 9 9\n"


def sent(client: Client, address: str, name: str, content: str, **more: str) -> str:
    answer = client.post(address, {"file": SimpleUploadedFile(name, content.encode()), **more}, follow=True)
    return answer.content.decode()


class TestObstacles:
    def test_typed_taken_out_and_given_out(self, client: Client, act) -> None:
        assert "No obstacles marked yet" in client.get("/ground/").content.decode()
        assert "Marked: oak, 22 m" in act("/ground/", **OAK)
        given = json.loads(client.get("/ground/obstacles.geojson").content)
        assert given["features"][0]["geometry"] == {"type": "Point", "coordinates": [-1.502, 51.501]}
        assert "no longer marked" in act(f"/ground/{Obstacle.objects.get().pk}/away/")
        assert "1 obstacles imported" in sent(client, "/ground/take-in/", "o.geojson", json.dumps(given))

    @pytest.mark.parametrize(
        ("changes", "told"),
        [
            ({"places": "here"}, "expected “51.501, -1.502”, found “here”"),
            ({"kind": "LineString"}, "needs at least 2 places"),
            ({"height_m": "900"}, "less than or equal to 500"),
            ({"places": "95, 4"}, "within ±90"),
            ({"name": ""}, "required"),
        ],
    )
    def test_what_is_none_is_refused_beside_the_form(self, client: Client, changes: dict[str, str], told: str) -> None:
        answer = client.post("/ground/", OAK | changes)
        assert answer.status_code == 400
        assert told in answer.content.decode()
        assert not Obstacle.objects.exists()

    @pytest.mark.parametrize(("content", "told"), [("{", "this is not GeoJSON"), ("{}", "has no geometry")])
    def test_a_file_that_is_none_takes_nothing_in(self, client: Client, content: str, told: str) -> None:
        page = sent(client, "/ground/take-in/", "o.geojson", content)
        assert "Nothing was imported" in page
        assert told in page
        assert "No file chosen" in client.post("/ground/take-in/", follow=True).content.decode()

    def test_nobody_is_led_to_another_place(self, client: Client) -> None:
        answer = client.post("/ground/", OAK | {"back": "https://elsewhere.example/"})
        assert answer["Location"] == "/ground/"


@pytest.mark.parametrize(("changes", "told"), [({"turns_within_s": "0"}, "expected 1 to 300"), ({"ends": "sky"}, "valid choice")])
def test_a_rule_that_is_none_is_refused(client: Client, changes: dict[str, str], told: str) -> None:
    plane = hangar.create_craft(layout=None, name="Kite", kind=Craft.Kind.FIXED_WING)
    rule = {
        "turns_within_s": "20",
        "turn_way": "short",
        "airspeed_least_m_s": "9",
        "battery_least_v": "0",
        "lowest_m": "40",
        "overshoot_most_m": "10",
        "clear_by_m": "20",
        "ends": "circle",
        "ends_within_m": "99",
    }
    answer = client.post(f"/craft/{plane.pk}/return/", rule | changes)
    assert answer.status_code == 400
    assert told in answer.content.decode()
    assert not plane.return_rules.exists()


class TestSight:
    def test_a_ridge_cuts_the_view(self, client: Client) -> None:
        assert "No terrain profile yet" in client.get("/ground/sight/").content.decode()
        assert "Imported: ridge.csv, 2.0 km" in sent(client, "/ground/sight/", "ridge.csv", RIDGE, datum="sea level")
        page = client.get("/ground/sight/?antenna_m=2&frequency_mhz=2400&height_m=40").content.decode()
        assert "the ground blocks it beyond 1.15 km" in page
        assert "sea level" in page
        assert "stays in sight all 2.00 km" in client.get("/ground/sight/?antenna_m=2&height_m=200").content.decode()
        page = client.get("/ground/sight/?antenna_m=-2").content.decode()
        assert "greater than or equal to 0" in page
        assert "removed" in client.post(f"/ground/sight/{Profile.objects.get().pk}/away/", follow=True).content.decode()

    @pytest.mark.parametrize(
        ("name", "content", "more", "told"),
        [
            ("p.csv", "a,b\nx,y\n", {}, "two columns of numbers"),
            ("p.csv", "0,1\n5,2\n3,2\n", {}, "profile needs rising distances and no"),
            ("g.asc", GRID, {}, "say between which two places"),
            ("g.asc", GRID, {"start": "0.005, 0.01", "end": "7, 7"}, "goes over 100 m to 100 km"),
            ("g.asc", GRID, {"start": "here", "end": ""}, "Expected latitude and longitude"),
        ],
    )
    def test_what_is_no_profile_is_refused(
        self, client: Client, name: str, content: str, more: dict[str, str], told: str
    ) -> None:
        assert told in sent(client, "/ground/sight/", name, content, **more)
        assert not Profile.objects.exists()

    def test_a_grid_is_cut_between_two_places(self, client: Client) -> None:
        page = sent(client, "/ground/sight/", "g.asc", GRID, start="0.005, 0.01", end="0.025, 0.01")
        assert "Imported: g.asc, 2.2 km" in page
