"""Slips from their plan to the frozen verdict, and the hangar's word about every craft."""

import itertools
from dataclasses import replace

import pytest
from django.test import Client

from nembrit.core.analysis.likeness import Likeness
from nembrit.core.analysis.metrics import Metrics
from nembrit.core.analysis.run import ANALYSES
from nembrit.core.causes.finding import Finding
from nembrit.core.errors import InputError
from nembrit.core.trials.plan import Limit
from nembrit.web.bench.results import store, stored_results
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Segment
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.dots import apart
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.trials import sides_of, trial_of
from tests.pageforms import fields_of

METRIC = "motor_roughness"
BENT = Finding(
    code="propeller",
    severity="act",
    confidence=0.9,
    highlight="Motor 2 shakes",
    conclusion=": a propeller.",
    evidence={},
    proof="",
)
pytestmark = pytest.mark.django_db


@pytest.fixture
def fly(craft: Craft, attach):
    """Flights with chosen numbers, as if each was flown and analysed."""
    first = attach()
    segment = first.segments.get()
    found = stored_results([first], *ANALYSES)[first.pk]
    first.archived_at = first.flown_at
    first.save()

    def do(*levels: float, fault: bool = False, **fields: object) -> list[Flight]:
        made = []
        for level in levels:
            flight = create_flight(craft, **{"card_key": "response", **fields})
            own = Segment.objects.create(log=segment.log, flight=flight, start_s=segment.start_s, end_s=segment.end_s)
            spread = 1 + 0.01 * (flight.number * 3 % 17) / 2
            values = {name: value * spread for name, value in found.metrics.values.items()} | {METRIC: level * spread}
            parts: dict[str, object] = {
                "metrics": replace(found.metrics, values=values), "judgement": replace(found.judgement, findings=(BENT,) * fault),
                "likeness": Likeness(mark=()),
            }  # fmt: skip
            for key in ANALYSES:
                store(own, key, parts.get(key, getattr(found, key)))
            made.append(flight)
        return made

    return do


@pytest.fixture
def text(slip_text: tunes.SlipText) -> tunes.SlipText:
    return replace(slip_text, card_key="response")


def lower_d(craft: Craft, text: tunes.SlipText, value: str = "30", **changes: object) -> Slip:
    return tunes.make_slip(tunes.tune_of(craft), group="pd.roll", text=replace(text, **changes), values={"d on roll": value})


def title(client: Client, slip: Slip) -> str:
    page = client.get(slip.get_absolute_url()).content.decode()
    return page.split("<h1>")[1].split("</h1>")[0]


def test_a_trial_from_its_plan_to_the_frozen_verdict(client: Client, craft: Craft, fly, text, act) -> None:
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text, limits=(Limit(metric="overshoot.roll", most=0.03),))
    assert title(client, slip) == "Not yet: 4 of 4 flown before, 0 of 4 after"
    fly(0.7, 0.7, 0.7)
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "3 of 4 after" in page
    assert "better" not in page.split("Change slip")[0].lower().replace("better left out", "")
    (last,) = fly(0.7)
    assert title(client, slip).startswith("Better: motor roughness fell by")
    assert "Slip 1 is kept." in act(f"/slips/{slip.pk}/decide/", outcome="keep")
    last.archived_at = last.flown_at
    last.save()
    assert title(client, slip).startswith("Better: motor roughness fell by"), "what was decided stays as it was"


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_an_undone_slip_is_titled_so_and_its_settings_count_again(client: Client, craft: Craft, fly, text, act) -> None:
    before = fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    fly(1.3, 1.3, 1.3, 1.3)
    act(f"/slips/{slip.pk}/decide/", outcome="undo")
    assert title(client, slip).startswith("Undone; worse: motor roughness rose by")
    again = fly(1.0)  # with r3, which equals r1
    second = lower_d(craft, text, value="28")
    assert [flight for flight, is_after in sides_of(second) if not is_after] == [*before, *again]
    third_state = [row.flight for row in trial_of(second).judged]
    assert third_state == [*before, *again]


def test_a_repair_that_is_undone_is_the_state_before(craft: Craft, fly, text) -> None:
    before = fly(1.0)
    slip = tunes.make_slip(tunes.tune_of(craft), group="hardware", text=text, values={}, part="Foam pads")
    fly(1.0)
    tunes.decide(slip, "undo")
    after = fly(1.0)
    states = hangar.states_of(craft)
    keys = [states.of(flight.configuration_id, flight.build_entry_id) for flight in (*before, *after)]
    assert keys[0] == keys[1]


def test_a_flight_with_a_fault_waits_for_an_answer(client: Client, craft: Craft, fly, text, act) -> None:
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text, despite="tried all the same")
    fly(0.7, 0.7, 0.7)
    (bent,) = fly(0.7, fault=True)
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "answer first whether flight" in page
    assert "it flew with a fault: Motor 2 shakes" in page
    address = f"/slips/{slip.pk}/flights/{bent.pk}/"
    assert "give a reason" in act(address, use="in")
    act(address, use="in", why="it was like that before, too")
    assert title(client, slip).startswith("Cannot be judged: the verdict depends on flight")
    act(address, use="")
    act(address, use="out")
    assert trial_of(slip).verdict.word == "not_yet"
    fly(0.7)
    assert title(client, slip).startswith("Better:")
    assert "Nothing was changed" in act(address, use="perhaps") or "Choose whether" in act(address, use="perhaps")


def test_simulated_flights_never_stand_against_real_ones(client: Client, craft: Craft, fly, text) -> None:
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    fly(0.7, 0.7, 0.7, 0.7, simulation={"seed": 3})
    verdict = trial_of(slip).verdict
    assert verdict.word == "not_yet"
    assert "flown in the simulator, the others outside" in client.get(slip.get_absolute_url()).content.decode()


def test_a_trial_goes_on_by_declaration(client: Client, craft: Craft, fly, text, act) -> None:
    fly(*[1.0] * 8)
    slip = lower_d(craft, text)
    assert "a plan can be extended only after" in act(f"/slips/{slip.pk}/extend/", total="8")
    fly(*[0.98] * 4)
    assert title(client, slip).startswith("No difference that matters")
    assert "less than or equal to 10" in act(f"/slips/{slip.pk}/extend/", total="99")
    act(f"/slips/{slip.pk}/extend/", total="8")
    assert title(client, slip) == "Not yet: 8 of 8 flown before, 4 of 8 after"
    fly(*[0.98] * 4)
    slip.refresh_from_db()
    assert trial_of(slip).verdict.level < 0.02


def test_flights_without_a_card_are_told_and_get_it_by_their_manoeuvres(client: Client, craft: Craft, fly, text, act) -> None:
    fly(1.0, 1.0, card_key="")
    slip = lower_d(craft, text)
    assert "2 flights could count, but have no card" in client.get(slip.get_absolute_url()).content.decode()
    assert "2 flights now have the card of this slip." in act(f"/slips/{slip.pk}/card/")
    assert [row.flight.card_key for row in trial_of(slip).judged] == ["response"] * 2
    assert "this slip names no card" in act(f"/slips/{lower_card_less(slip).pk}/card/")


def lower_card_less(slip: Slip) -> Slip:
    slip.card_key = ""
    slip.save()
    return slip


def test_card_and_settings_of_many_flights(client: Client, craft: Craft, fly) -> None:
    first, second, third = fly(1.0, 1.0, 1.0, card_key="full")
    address = f"/craft/{craft.pk}/flights/"
    fields = fields_of(client.get(address).content.decode())
    assert fields["card_key"] == fields["configuration"] == fields["build_entry"] == "unchanged"
    assert "Choose at least one flight" in client.post(address, fields).content.decode()
    client.post(address, fields | {"flights": [first.pk]})
    client.post(address, {"flights": [first.pk]})  # not from the page
    assert set(Flight.objects.active().values_list("card_key", flat=True)) == {"full"}, "nothing chosen changes nothing"
    client.post(address, fields | {"flights": [first.pk, second.pk], "card_key": "as_flown"})
    assert list(Flight.objects.active().order_by("number").values_list("card_key", flat=True)) == ["response", "response", "full"]
    older = craft.configurations.last()
    client.post(address, fields | {"flights": [third.pk], "card_key": "", "configuration": older.pk})
    third.refresh_from_db()
    assert (third.card_key, third.configuration) == ("", older)
    assert client.post(address, fields | {"flights": [third.pk], "card_key": "luck"}).status_code == 400
    assert client.post(address, fields | {"flights": [10**9]}).status_code == 400


def test_a_number_that_is_another_than_most_is_marked(client: Client, craft: Craft, fly) -> None:
    flights = fly(1.0, 1.0, 1.0)
    segment = flights[1].segments.get()
    found = stored_results([flights[1]], "metrics")[flights[1].pk].metrics
    store(segment, "metrics", Metrics(values=found.values, noise_channel="gyro", sample_rate_hz=500.0, window_s=25.0))
    page = client.get(f"/craft/{craft.pk}/").content.decode()
    assert page.count("filtered gyro") == 1


def test_the_hangar_tells_stage_next_step_and_last_result(client: Client, craft: Craft, fly, text) -> None:
    bare = hangar.create_craft(layout="quad", name="Bare", kind="multirotor")

    def page() -> str:
        return client.get("/").content.decode()

    assert "Save the current settings" in page()
    hangar.paste_configuration(bare, "a = 1")
    assert "Fly the half-minute card and attach the log" in page()
    fly(1.0)
    assert "Flight 2 is attached: see its result" in page()
    assert "Pitch has margin to spare" in client.get(f"/craft/{craft.pk}/next/?flight=999").content.decode()
    assert "Flight 2 is in" not in page(), "it is worked out once"
    slip = lower_d(craft, text)
    assert "Continue slip 1: 1 of 4 flown before, 0 of 4 after" in page()
    tunes.decide(slip, "undo")
    assert "Undone, before a verdict" in page()
    fly(1.0, fault=True)
    assert "Mechanics first: Motor 2 shakes" in page()


def test_an_answer_needs_a_flight_of_the_trial(craft: Craft, fly, text) -> None:
    (other,) = fly(1.0, card_key="full")
    slip = lower_d(craft, text)
    with pytest.raises(InputError, match="is on neither side of slip"):
        tunes.answer(slip, other, "out", why="gusty")


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_a_repair_is_set_against_the_flights_before_the_fault_appeared(client: Client, craft: Craft, fly, text) -> None:
    fly(1.0, 1.0, 1.0, 1.0)
    (bent,) = fly(1.6, fault=True)
    slip = tunes.make_slip(tunes.tune_of(craft), group="hardware", text=text, values={}, part="motor 2")
    Slip.objects.filter(pk=slip.pk).update(cause_code="propeller", cause_flight=bent, primary_metric=METRIC)
    slip.refresh_from_db()
    fly(1.02, 1.0, 0.99)
    assert trial_of(slip).recovered.in_words.startswith("3 of 4 flown since, 4 of 4 before the fault")
    fly(1.01)
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "As good as before: motor roughness" in page
    assert "against the 4 flights before the fault" in page
    tunes.decide(slip, "keep")
    assert "As good as before: motor roughness" in client.get(slip.get_absolute_url()).content.decode()


def test_the_motors_places_are_corrected_and_answers_made_anew(client: Client, craft: Craft, attach) -> None:
    results = attach().segments.get().results
    page = client.get(f"/craft/{craft.pk}/edit/").content.decode()
    form = {name: value for name, value in fields_of(page).items() if name.startswith(("number-", "turns-", "order_seen"))}
    address = f"/craft/{craft.pk}/motors/"
    for change, status, told in (
        ({}, 302, ""), ({"number-0": "2"}, 400, "Each motor from 1 to 6 sits at one place"),
        ({"number-0": "99"}, 400, ""), ({f"turns-{k}": "clockwise" for k in range(6)}, 400, "ll motors turn the same way"),
    ):  # fmt: skip
        answer = client.post(address, form | change)
        assert (answer.status_code, told in answer.content.decode()) == (status, True)
        assert results.exists(), "nothing was changed"
    assert client.post(address, form | {"number-0": "2", "number-1": "1"}).status_code == 302
    assert not results.exists()
    first, second = hangar.core_craft(craft).motors[:2]
    assert (first.roll, second.roll) == (-1.0, -0.5)
    assert "he motors changed since this page was" in client.post(address, form).content.decode()


@pytest.mark.parametrize("places", [{9: 40.0, 12: 43.0, 11: 44.0, 10: 55.0}, {1: 34.0, 2: 34.0, 3: 34.0}, {5: 100.0}, {}])
def test_flights_numbers_are_read_beside_each_other(places: dict[int, float]) -> None:
    found = apart(places)
    order = sorted(places, key=lambda number: places[number])
    assert all(found[b] - found[a] > 5 for a, b in itertools.pairwise(order))
    assert all(abs(found[number] - at) < 7 for number, at in places.items())


def test_keeping_before_the_planned_flights_needs_a_reason(craft: Craft, act, slip_text) -> None:
    slip = tunes.make_slip(tunes.tune_of(craft), group="hardware", text=slip_text, values={}, part="Propeller")
    address = f"/slips/{slip.pk}/decide/"
    assert "only 0 of 4 flights per side are flown" in act(address, outcome="keep", note="")
    slip.refresh_from_db()
    assert slip.state == Slip.State.OPEN
    assert "Slip 1 is kept" in act(address, outcome="keep", note="the old one was split")
