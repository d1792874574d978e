"""A blind comparison, blind and open: what stays closed until it is revealed, and what is recorded then."""

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.urls import URLPattern, get_resolver

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import apply_changes
from nembrit.web.bench.models import StoredResult
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs.models import Segment
from nembrit.web.tunes import experiments
from nembrit.web.tunes.models import Experiment, Turn
from tests.flying import log_file

pytestmark = pytest.mark.django_db


@pytest.fixture
def arms(craft: Craft) -> list[Configuration]:
    first = craft.configurations.get()
    softer = apply_changes(hangar.core_settings(first), {"d on roll": "24"})
    return [first, hangar.add_configuration(craft, softer, source=Configuration.Source.PASTED, note="the softer one")]


@pytest.fixture
def ask(client: Client, craft: Craft, arms: list[Configuration]):
    """Ask through the page."""

    def do(**changes: object) -> Experiment:
        given = {
            "question": "Does less D fly as well?", "configurations": [str(one.pk) for one in arms], "card_key": "response",
            "metric": "rating", "direction": "higher", "design": "blocks", "repetitions": "4", "packs": "1, 2", "is_blind": "on",
        }  # fmt: skip
        answer = client.post(f"/craft/{craft.pk}/comparisons/new/", {k: v for k, v in (given | changes).items() if v is not None})
        assert answer.status_code == 302, answer.content.decode()
        return Experiment.objects.get()

    return do


def attach_turn(client: Client, turn: Turn, content: bytes, name: str = "d24-roll-soft.csv") -> str:
    address = f"/comparisons/{turn.experiment_id}/turns/{turn.pk}/log/"
    return client.post(address, {"files": SimpleUploadedFile(name, content)}, follow=True).content.decode()


def rate(client: Client, turn: Turn, **fields: object) -> str:
    address = f"/comparisons/{turn.experiment_id}/turns/{turn.pk}/rate/"
    return client.post(address, {"rating": "4", **fields}, follow=True).content.decode()


def copied(turn: Turn, segment: Segment) -> Flight:
    """This turn flown, too, with the same samples."""
    flight = Flight.objects.create(
        craft=turn.experiment.craft, number=turn.position + 100, flown_at="2026-05-01T10:00Z", **experiments.flight_fields(turn)
    )
    own = Segment.objects.create(log=segment.log, flight=flight, start_s=segment.start_s, end_s=segment.end_s)
    for one in segment.results.all():
        StoredResult.objects.create(segment=own, analysis=one.analysis, version=one.version, content=one.content)
    return flight


def addresses(values: dict[str, object]) -> list[str]:
    """Every address that is about this flight, its log or its part of a log."""
    found = []

    def walk(patterns: list[object], before: str) -> None:
        for one in patterns:
            route = before + str(one.pattern)
            if not isinstance(one, URLPattern):
                walk(one.url_patterns, route)
            elif set(one.pattern.converters) & set(values) and not route.startswith("slips/"):  # there a slip is asked first
                for name in one.pattern.converters:
                    kind = next(part for part in route.split("<")[1:] if part.split(">")[0].endswith(name)).split(">")[0]
                    route = route.replace(f"<{kind}>", str(values.get(name, 1 if kind.startswith("int:") else "roll")))
                found.append("/" + route)

    walk(get_resolver().url_patterns, "")
    return found


class TestBlind:
    def test_until_it_is_revealed_no_page_tells(self, client: Client, craft: Craft, ask) -> None:
        shown = ask()
        turn = shown.turns.first()
        file = client.get(f"/comparisons/{shown.pk}/turns/{turn.pk}/settings.txt")
        assert f'filename="{turn.code}.txt"' in file["Content-Disposition"]
        assert "softer" not in file.content.decode()
        assert "revision" not in file.content.decode()
        page = attach_turn(client, turn, log_file(5, 1.0))
        assert "before its result is known" in page
        assert "d24" not in page
        flight, segment = Flight.objects.get(), Segment.objects.get()
        assert flight.is_sealed
        assert flight.configuration is None
        told = {"flight_id": f"craft/{craft.pk}/flights/{flight.number}", "log_id": segment.log_id, "segment_id": segment.pk}
        closed = addresses(told)
        assert len(closed) > 35
        for address in closed:
            for answer in (client.get(address), client.post(address)):
                assert answer.status_code in (403, 405) or (answer.status_code == 404 and "roll" in address), address
                assert "d on roll" not in answer.content.decode()
        for address in (
            f"/craft/{craft.pk}/",
            f"/craft/{craft.pk}/tune/",
            "/",
            "/inbox/",
            "/packs/",
            f"/craft/{craft.pk}/comparisons/",
        ):
            page = client.get(address).content.decode()
            for told in (flight.get_absolute_url(), f"/logs/{segment.log_id}/", "d24"):
                assert told not in page, address

    def test_from_the_first_flight_to_what_is_kept(self, client: Client, craft: Craft, ask, act, arms, monkeypatch) -> None:
        monkeypatch.setattr(
            "nembrit.web.tunes.views.experiment.ensure_results", lambda flights: []
        )  # margins are not asked about
        shown = ask()
        first, *others = shown.turns.all()
        attach_turn(client, first, log_file(5, 1.0))
        segment = Segment.objects.get()
        assert "rate every flight first" in act(f"/comparisons/{shown.pk}/end/", end="reveal")
        order = experiments.order_of(shown)
        marks = {0: "2", 1: "5"}
        guessed = {arm.position: arm.pk for arm in shown.arms.all()}
        for turn in (first, *others):
            if turn != first:
                copied(turn, segment)
                client.get(shown.get_absolute_url())
            flown = order[turn.position]
            assert "is rated" in rate(client, turn, rating=marks[flown], guess=guessed[flown])
        assert "rated already" in rate(client, first, rating="1")
        page = act(f"/comparisons/{shown.pk}/end/", end="reveal")
        assert "Better: rated 5 against 2" in page
        assert "8 of 8 guesses right, 4 by chance" in page
        for turn in shown.turns.select_related("flight"):
            assert turn.flight.configuration == arms[order[turn.position]]
            assert not turn.flight.is_sealed
            assert client.get(turn.flight.get_absolute_url()).status_code == 200
        assert act(f"/comparisons/{shown.pk}/keep/", arm="0", note="the pilot liked it").count("is kept") >= 1
        assert hangar.latest_configuration(craft).source == Configuration.Source.EXPERIMENT
        assert "already decided" in act(f"/comparisons/{shown.pk}/keep/", arm="1")

    def test_a_turn_left_out_and_one_broken_off_go_on_unbalanced(self, client: Client, ask, act) -> None:
        shown = ask()
        first, second = shown.turns.all()[:2]
        address = f"/comparisons/{shown.pk}/turns/{second.pk}/skip/"
        assert "give a reason" in act(address, why=" ")
        assert "the comparison continues" in act(address, why="rain")
        attach_turn(client, first, log_file(5, 1.0))
        assert "is rated" in rate(client, first, rating="", ended="aborted")
        assert Flight.objects.get().ended == "aborted"
        assert experiments.next_turn(shown).position == 2

    def test_the_same_log_is_one_turn_and_a_broken_one_none(self, client: Client, ask) -> None:
        shown = ask()
        first, second = shown.turns.all()[:2]
        attach_turn(client, first, log_file(5, 1.0))
        rate(client, first)
        assert "exists already" in attach_turn(client, second, log_file(5, 1.0))
        assert "could not be read" in attach_turn(client, second, b"time,gyro\nnothing\n") or Flight.objects.count() == 1
        second.refresh_from_db()
        assert second.flight is None

    def test_given_up_flights_are_flights_like_others(self, client: Client, ask, act) -> None:
        shown = ask()
        attach_turn(client, shown.turns.first(), log_file(5, 1.0))
        assert "give a reason" in act(f"/comparisons/{shown.pk}/end/", end="give_up", why="")
        act(f"/comparisons/{shown.pk}/end/", end="give_up", why="the wind came up")
        assert client.get(Flight.objects.get().get_absolute_url()).status_code == 200


class TestAsking:
    @pytest.mark.parametrize(
        ("changes", "told"),
        [
            ({"question": ""}, "required"),
            ({"configurations": []}, "choose at least two variants"),
            ({"words": "wide propellers", "configurations": []}, "choose at least two variants"),
            ({"words": "wide propellers"}, "lind works only with settings"),
            ({"repetitions": "5"}, "even number"),
            ({"repetitions": "11"}, "less than or equal"),
            ({"design": "latin"}, "from 5 to 10"),
            ({"card_key": "nothing"}, "valid choice"),
            ({"metric": "beauty"}, "valid choice"),
        ],
    )
    def test_what_cannot_be_judged_is_not_begun(
        self, client: Client, craft: Craft, arms, changes: dict[str, object], told: str
    ) -> None:
        given = {
            "question": "Which?", "configurations": [str(one.pk) for one in arms], "card_key": "response", "metric": "rating",
            "direction": "higher", "design": "blocks", "repetitions": "4", "is_blind": "on",
        } | changes  # fmt: skip
        answer = client.post(f"/craft/{craft.pk}/comparisons/new/", given)
        assert answer.status_code == 400
        assert told in answer.content.decode()
        assert not Experiment.objects.exists()

    def test_one_question_at_a_time_and_no_arm_twice(self, craft: Craft, ask, arms) -> None:
        ask()
        wanted = experiments.Wanted(
            question="Again?", card_key="response", metric="rating", direction="higher", design="blocks", repetitions=4,
            is_blind=False, words=("one", "two"),
        )  # fmt: skip
        with pytest.raises(InputError, match="one comparison at a time"):
            experiments.begin(craft, wanted)

    def test_an_open_question_about_anything_shows_its_arms(self, client: Client, ask, arms) -> None:
        shown = ask(is_blind=None, configurations=[], words="narrow propellers\nwide propellers", metric="motor_roughness")
        page = client.get(shown.get_absolute_url()).content.decode()
        assert "Set the craft up:" in page
        assert page.count("wide propellers") >= 4
        turn = shown.turns.first()
        answer = client.get(f"/comparisons/{shown.pk}/turns/{turn.pk}/settings.txt", follow=True)
        assert "his variant has no settings file" in answer.content.decode()
        attach_turn(client, turn, log_file(5, 1.0))
        assert client.get(Flight.objects.get().get_absolute_url()).status_code == 200
