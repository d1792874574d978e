"""From the baseline to locked, and a repair put to the test."""

from dataclasses import replace

import pytest
from django.test import Client

from nembrit.core.analysis.likeness import Likeness
from nembrit.core.analysis.run import ANALYSES
from nembrit.web.bench.results import store, stored_results
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Segment
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Slip, Tune

pytestmark = pytest.mark.django_db


@pytest.fixture
def fly(craft: Craft, attach):
    """Flights with a level of motor noise and chosen conditions, as if each was flown and analysed."""
    first = attach()
    segment = first.segments.get()
    found = stored_results([first], *ANALYSES)[first.pk]
    first.archived_at = first.flown_at
    first.save()

    def do(*levels: float, lowest_v: float = 15.0, findings: tuple[object, ...] = (), **fields: object) -> list[Flight]:
        made = []
        for level in levels:
            flight = create_flight(craft, **{"card_key": "response", **fields})
            own = Segment.objects.create(log=segment.log, flight=flight, start_s=segment.start_s, end_s=segment.end_s)
            spread = 1 + 0.01 * (flight.number * 3 % 17) / 2
            values = {name: value * spread for name, value in found.metrics.values.items()} | {"motor_roughness": level * spread}
            parts: dict[str, object] = {
                "metrics": replace(found.metrics, values=values),
                "judgement": replace(found.judgement, findings=findings, untested={}),
                "conditions": replace(found.conditions, lowest_v=lowest_v),
                "likeness": Likeness(mark=()),
            }
            for key in ANALYSES:
                store(own, key, parts.get(key, getattr(found, key)))
            made.append(flight)
        return made

    return do


@pytest.fixture
def changed(craft: Craft, fly, slip_text) -> Slip:
    """A decided change over flights before it."""
    fly(1.0, 1.0, 1.0, 1.0)
    slip = tunes.make_slip(
        tunes.tune_of(craft), group="d_filters", text=replace(slip_text, card_key="response"), values={"smooth d hz": "80"}
    )
    tunes.decide(slip, "keep")
    Tune.objects.update(stage="verify")
    return slip


class TestLocking:
    def test_a_passed_comparison_locks_in(self, client: Client, craft: Craft, fly, changed: Slip, act) -> None:
        address = f"/craft/{craft.pk}/tune/"
        page = client.get(address).content.decode()
        assert "4 of 4 baseline flights and 0 of 4 current flights" in page, page[page.index('id="verify"') :][:900]
        assert "Nothing was locked in" in act(f"{address}lock/")
        fly(0.7, 0.7, 0.7, 0.7)
        page = client.get(address).content.decode()
        assert "Verified against the baseline" in page
        assert "Ready to lock in" in client.get(f"/craft/{craft.pk}/next/").content.decode()
        page = act(f"{address}lock/")
        assert "Locked in: r2 is the reference now" in page
        assert "r2 is locked in" in page
        assert "r2 locked in" in page.split('id="ledger"')[1]
        assert hangar.latest_configuration(craft).is_reference
        assert "Locked in" in client.get("/").content.decode()

    def test_what_got_worse_is_locked_in_for_a_reason_only(self, client: Client, craft: Craft, fly, changed: Slip, act) -> None:
        fly(1.5, 1.5, 1.5, 1.5)
        address = f"/craft/{craft.pk}/tune/"
        assert "Not verified: motor roughness rose by" in client.get(address).content.decode()
        assert "Nothing was locked in: not verified: motor roughness" in act(f"{address}lock/", despite=" ")
        page = act(f"{address}lock/", despite="it may be noisier, it flies indoors")
        assert "despite open points: it may be noisier" in " ".join(page.split())

    def test_the_stage_cannot_be_typed_as_locked(self, client: Client, craft: Craft, changed: Slip) -> None:
        client.post(f"/craft/{craft.pk}/tune/", {"name": "x", "route": "own", "stage": "locked", "state": "running"})
        assert Tune.objects.get().stage == "verify"

    def test_an_open_slip_is_decided_first(self, craft: Craft, client: Client, changed: Slip, slip_text, act) -> None:
        tunes.make_slip(tunes.tune_of(craft), group="d_filters", text=slip_text, values={"smooth d hz": "90"})
        assert "slip 2 is still open" in act(f"/craft/{craft.pk}/tune/lock/", despite="at once")


class TestStages:
    def test_the_next_step_leads_from_stage_to_stage(self, client: Client, craft: Craft, fly, act) -> None:
        address = f"/craft/{craft.pk}/tune/"
        tunes.tune_of(craft)

        def step() -> str:
            return client.get(f"/craft/{craft.pk}/next/").content.decode()

        fly(0.001)
        assert "Continue flying: four flights of one card with these settings (1 of 4)" in step()
        assert "Pitch has margin to spare" in step().split("Alternatives")[1], "it can wait"
        fly(0.001, 0.001, 0.001)
        assert "Pitch has margin to spare" in step().split("<details")[0]
        assert "is at mechanics now" in act(f"{address}on/")
        act(f"{address}on/")
        act(f"{address}on/")
        assert "group=pd.pitch&amp;flight=5&amp;step=0" in step()
        assert "is at verify now" in act(f"{address}on/")
        assert "the next stage is locking it in" in act(f"{address}on/")


class TestProvoking:
    @pytest.fixture
    def repair(self, craft: Craft, fly, slip_text) -> Slip:
        fly(1.0)
        text = replace(slip_text, card_key="response", title="capacitor added")
        return tunes.make_slip(tunes.tune_of(craft), group="hardware", text=text, values={}, part="Capacitor")

    def test_a_repair_is_put_to_the_test(self, client: Client, fly, repair: Slip, act) -> None:
        given = {"fault": "stripes in the picture", "lowest_cell_v": "3,4", "throttle_pct": "", "highest_temperature_c": ""}
        page = act(f"/slips/{repair.pk}/provoke/", **given)
        assert "0 of 2 flights with a pack down to 3.40 V per cell" in page
        high, low, lower = [*fly(1.0, lowest_v=15.4), *fly(1.0, 1.0, lowest_v=13.5)]
        assert "not a pack down to 3.40 V" in client.get(repair.get_absolute_url()).content.decode()
        for flight in (high, low, lower):
            page = act(f"/slips/{repair.pk}/provoke/{flight.pk}/", came_back="no")
        assert "Passed: not there in 2 flights" in page
        page = act(f"/slips/{repair.pk}/provoke/{low.pk}/", came_back="yes")
        assert f"Failed: it came back in flight {low.number}" in page

    def test_no_condition_is_made_of_what_none_is(self, repair: Slip, act) -> None:
        for fields, told in (
            ({"fault": ""}, "required"),
            ({"fault": "stripes", "lowest_cell_v": "14"}, "goes from 2 to 4.3"),
            ({"fault": "stripes", "throttle_pct": "all"}, "should be a number"),
        ):
            assert told in act(f"/slips/{repair.pk}/provoke/", **fields)
            repair.refresh_from_db()
            assert repair.provoke == {}

    def test_only_flights_since_can_answer(self, craft: Craft, repair: Slip, act) -> None:
        act(f"/slips/{repair.pk}/provoke/", fault="stripes")
        before = craft.flights.active().order_by("number").first()
        assert "was not flown after the repair" in act(f"/slips/{repair.pk}/provoke/{before.pk}/", came_back="no")
        assert "Choose whether the fault came back" in act(f"/slips/{repair.pk}/provoke/{before.pk}/", came_back="maybe")


class TestReport:
    def test_a_report_tells_what_was_done_and_what_it_brought(self, client: Client, craft: Craft, fly, changed: Slip) -> None:
        fly(0.7, 0.7, 0.7, 0.7)
        page = client.get(f"/craft/{craft.pk}/tune/report/").content.decode()
        for told in ("a change", "Verified against the baseline", "smooth d hz", "All settings, r2", "mean of 4 flights"):
            assert told in page
        assert page.count("<polyline") == 12
        kept = client.get(f"/craft/{craft.pk}/tune/report/?save=1")
        assert 'filename="pebble-report.html"' in kept["Content-Disposition"]
        for outside in ("http", "<script", "<link", "src="):
            assert outside not in kept.content.decode().replace('xmlns="http', "")

    def test_a_report_of_nothing_says_so(self, client: Client, craft: Craft) -> None:
        page = client.get(f"/craft/{craft.pk}/tune/report/").content.decode()
        assert "Nothing changed yet" in page
        assert "No change decided yet" in page
