"""Filters and gains tried on a flight's pages, and the slips that they fill in."""

import re
from dataclasses import replace
from html import unescape
from urllib.parse import urlencode

import pytest
from django.test import Client

from nembrit.core.analysis.decision import Decision
from nembrit.core.setup.controller import Controller
from nembrit.core.trials.counting import COUNTS, SUGGESTED, FlownFlight, Standing
from nembrit.demo.texts import NAME_MAP
from nembrit.web.bench import deciding
from nembrit.web.bench.chainform import query_of
from nembrit.web.bench.records import widened_of
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Decision as SlipDecision
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.predictions import errors_of, rows_of
from nembrit.web.tunes.slip_page import means_so_far
from tests.core.tuning.trying import low
from tests.flying import controller, log_file
from tests.pageforms import fields_of

CHAIN = [
    ("tried", "1"), ("chip.kind", "lowpass_2"), ("chip.hz", "550"), ("chip.q", "0.7071"), ("chip.orders", ""),
    ("gyro.kind", "lowpass_2"), ("gyro.hz", "250"), ("gyro.q", "0.7071"), ("gyro.orders", ""),
    ("d_term.kind", "lowpass_2"), ("d_term.hz", "80"), ("d_term.q", "0.7071"), ("d_term.orders", ""),
]  # fmt: skip


def changed(**fields: str) -> str:
    """The chain with fields changed; a name's underscore pair is its point."""
    return urlencode([(name, fields.get(name.replace(".", "__"), value)) for name, value in CHAIN])


@pytest.fixture
def flight(attach) -> Flight:
    return attach(log_file(5))


def text(client: Client, flight: Flight, page: str, status: int = 200) -> str:
    answer = client.get(f"{flight.get_absolute_url()}{page}")
    assert answer.status_code == status, answer.content[:300]
    return unescape(answer.content.decode())


class TestFilters:
    def test_the_flown_chain_is_shown_with_what_it_costs(self, client: Client, flight: Flight) -> None:
        page = text(client, flight, "filters/")
        assert re.search(r"The current filters cost \d\.?\d*° of lag at the crossover", page)
        for name, value in (("chip.hz", "550"), ("gyro.hz", "180"), ("d_term.hz", "110")):
            assert re.search(rf'name="{name}" data-go\s+value="{value}"', page)
        assert "reproduce the logged filtered gyro of roll within 0.05 dB" in page
        assert "Slip: " not in page

    def test_another_chain_is_set_beside_the_flown_one(self, client: Client, flight: Flight) -> None:
        page = text(client, flight, f"filters/?{changed(gyro__hz='320')}&axis=pitch")
        assert re.search(r"The tried filters cost \d\.?\d*° (less|more) lag at the crossover than the current ones", page)
        assert "after the tried filters" in page
        assert "noise remaining, 20 to 100 Hz, pitch" in page
        assert "At low and high throttle" in page
        assert "Slip: gyro filters" in page
        flown, tried = (
            client.get(f"{flight.get_absolute_url()}filters/map.json?axis=pitch&{chain}").json() for chain in ("", changed())
        )
        assert len(tried["edges"]) == len(tried["db"]) + 1
        assert sorted(tried["edges"]) == tried["edges"]
        assert sum(map(sum, tried["db"])) > sum(map(sum, flown["db"])), "a higher cutoff leaves more"
        assert "Slip: D filters" in page

    def test_what_is_no_chain_is_refused_in_place(self, client: Client, flight: Flight) -> None:
        for fields, told in (
            ({"gyro__hz": "viel"}, "low-pass, second order: the frequency in Hz should be a number, not “viel”"),
            ({"gyro__hz": "9000"}, "goes from 5 to 4000"),
            ({"gyro__q": "0"}, "Q goes from 0.3 to 50"),
            ({"gyro__kind": "magic"}, "“magic” is not a kind of filter"),
            ({"d_term__kind": "rotor_notch"}, "motor-tracking notches belong to the gyro filters"),
            ({"gyro__kind": "rotor_notch"}, "say which orders"),
        ):
            page = text(client, flight, f"filters/?{changed(**fields)}", 400)
            assert told in page
            assert "The current filters cost" in page
        block = [("gyro.kind", "notch"), ("gyro.hz", "210"), ("gyro.q", "3"), ("gyro.orders", "")]
        assert "more than 8 filters" in text(client, flight, f"filters/?{urlencode([*CHAIN, *block * 9])}", 400)
        assert "fields do not match" in text(client, flight, f"filters/?{urlencode([*CHAIN, block[0]])}", 400)

    def test_blocks_are_added_put_away_and_change_places(self, client: Client, flight: Flight) -> None:
        for press, blocks, last in (
            ("gyro:notch", 4, "notch"), ("gyro:rotor_notch", 4, "motor-tracking notches"), ("gyro-0:away", 2, ""),
            ("gyro-7:away", 3, ""), ("nowhere-0:away", 3, ""), ("gyro-0:on", 3, ""),
        ):  # fmt: skip
            page = text(client, flight, f"filters/?{changed()}&press={press}")
            assert page.count('class="chain-block"') == blocks, press
            assert not last or f"<b>{last}</b>" in page
        chain = urlencode([*CHAIN, ("gyro.kind", "notch"), ("gyro.hz", "210"), ("gyro.q", "3"), ("gyro.orders", "")])
        page = text(client, flight, f"filters/?{chain}&press=gyro-1:back")
        assert page.index('value="210"') < page.index('value="250"')

    def test_every_school_is_weighed_and_one_is_advised(self, client: Client, flight: Flight) -> None:
        for caution, aimed in (("careful", "0.73"), ("usual", "1.1"), ("bold", "1.6"), ("wild", "1.1")):
            page = text(client, flight, f"filters/trade/?caution={caution}&pin=notches")
            assert page.count("safe</span>") == 1
            for school in ("chip filter", "software filters", "as set"):
                assert school in page
            assert f"Target: {aimed} %" in page

    def test_without_known_filters_the_page_says_what_to_give(self, client: Client, craft: Craft, flight: Flight) -> None:
        hangar.save_name_map(craft, dict.fromkeys(NAME_MAP, ("", None)))
        text(client, flight, "filters/")  # the loops are worked out anew
        page = text(client, flight, "filters/")
        assert "nknown filters" in page
        assert "nknown filters" in text(client, flight, "filters/trade/")

    def test_a_chain_survives_its_address(self) -> None:
        chains = controller()
        words = query_of(chains)
        assert ("gyro.hz", "180") in words
        assert ("d_term.kind", "lowpass_2") in words


class TestGains:
    def test_flown_numbers_and_tried_ones(self, client: Client, flight: Flight) -> None:
        page = text(client, flight, "gains/")
        assert "Try other gains on roll" in page
        assert re.search(r'id="gain-p" name="p" value="43"', page)
        page = text(client, flight, "gains/?axis=roll&p=52&d=42")
        assert re.search(r"Roll would be \d+.% faster", page)
        assert "Slip: P with D of roll" in page
        assert "Slip: I<" not in page

        for query, status, told in (
            ("axis=roll&p=999", 400, "P of roll goes from"),
            ("axis=roll&p=x", 400, "P of roll should be a number"),
            ("axis=left", 200, "gains on roll"),
            ("axis=yaw&p=300", 200, "Yaw would be"),
        ):
            assert told in text(client, flight, f"gains/?{query}", status)
        for caution in ("careful", "bold"):
            page = text(client, flight, f"gains/best/?caution={caution}")
            assert page.count('<th class="roll">') == page.count('<th class="pitch">') == page.count('<th class="yaw">') == 1
            assert "The axis closest to its limit comes" in page

    def test_gains_without_a_known_number_are_tried_in_per_cent(self, client: Client, craft: Craft, flight: Flight) -> None:
        hangar.save_name_map(craft, dict.fromkeys(NAME_MAP, ("", None)))
        text(client, flight, "gains/")  # the loops are worked out anew
        page = text(client, flight, "gains/?axis=roll&p=120")
        assert "% of flown" in page
        assert re.search(r"Roll would be \d+.% faster", page)

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_an_axis_that_could_not_be_told_says_what_to_fly(self, client: Client, attach) -> None:
        from tests.web.bench.test_response import log_without

        page = text(client, attach(log_without("setpoint.")), "gains/")
        assert "switch both on before the next flight" in page
        assert "No loop could be measured in this" in text(client, Flight.objects.get(), "gains/best/")


_STEPS = (
    Decision(kind="change", group="pd.roll", ratios={"roll": {"p": 0.8}}, why="Roll is close to oscillation: P down by 20%."),
    Decision(kind="change", group="i", ratios={axis: {"i": 1.25} for axis in ("roll", "pitch")}, why="I up by a quarter."),
    Decision(kind="change", group="idle", idle_ratio=1.25, why="Idle up by a quarter."),
    Decision(kind="change", group="d_filters", chains=Controller(loop_rate_hz=2e3, gains={}, d_term=(low(75.0),)), why="Less."),
)


class TestSlips:
    @pytest.mark.parametrize(
        ("place", "values"),
        [
            (0, {"p on roll": "34"}), (1, {"i on roll": "50", "i on pitch": "60"}), (2, {"motor floor %": "8"}),
            (3, {"smooth d hz": "75"}),
        ],
    )  # fmt: skip
    def test_the_one_decision_fills_its_slip_in(
        self, client: Client, craft: Craft, flight: Flight, place: int, values: dict, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        found = replace(_STEPS[0], alternatives=_STEPS[1:])
        monkeypatch.setattr(deciding, "decision_of", lambda *_: found)
        address = f"/craft/{craft.pk}/slips/new/?group={_STEPS[place].group}&flight={flight.number}&step={place}"
        form = fields_of(client.get(address).content.decode())
        assert {name: form[f"value-{name}"] for name in values} == values
        assert _STEPS[place].why in form["why"]
        assert "now proposes another step" in client.get(address.replace("step=", "step=7")).content.decode()
        settings = hangar.core_settings(craft.configurations.get())
        newer = hangar.add_configuration(craft, settings[:-1], source="pasted")
        assert "flew older settings" in client.get(address).content.decode(), "a step is taken once"
        newer.delete()
        hangar.save_name_map(craft, dict.fromkeys(NAME_MAP, ("", None)))
        text(client, flight, "filters/")  # the loops are worked out anew
        assert "name them on the page “Setting names”" in client.get(address).content.decode()

    def test_slips_are_filled_in(self, client: Client, craft: Craft, flight: Flight) -> None:
        address = f"/craft/{craft.pk}/slips/new/?group="
        for group, query, values, why in (
            ("gyro_filters", changed(), {"smooth gyro hz": "250"}, "Calculated from the noise of flight 1"),
            ("d_filters", changed(), {"smooth d hz": "80"}, "Calculated from the noise of flight 1"),
            ("pd.roll", "axis=roll&p=52&i=40&d=42&f=15", {"p on roll": "52", "d on roll": "42"}, "Calculated from flight 1"),
        ):
            page = client.get(f"{address}{group}&flight={flight.number}&{query}").content.decode()
            form = fields_of(page)
            assert {name: form[f"value-{name}"] for name in values} == values
            assert why in form["why"]
            assert form["title"]
            assert page.count("<mark>") >= len(values)
        tunes.tune_of(craft)
        craft.tunes.update(route="step_up")
        page = client.get(f"{address}pd.roll&flight=1&axis=roll&p=52&d=42").content.decode()
        assert "raises one value per flight" in page
        for group in ("gyro_filters", "d_filters", "pd.pitch", "i", "feed_forward"):
            page = client.get(f"{address}{group}").content.decode()
            assert "Proposed values are highlighted" in page or not fields_of(page)["title"], group
        for query, told in (
            ("flight=99", "no flight 99"),
            ("flight=x", "no flight x"),
            (f"flight=1&{changed(gyro__hz='viel')}", "should be a number"),
        ):
            page = client.get(f"{address}gyro_filters&{query}").content.decode()
            assert "Nothing was filled in" in page
            assert told in page
            assert 'name="title"' in page

    def test_a_written_slip_keeps_its_prediction_and_is_set_against_the_flights(
        self, client: Client, craft: Craft, flight: Flight
    ) -> None:
        address = f"/craft/{craft.pk}/slips/new/?group=d_filters&flight={flight.number}&{changed()}"
        sent = fields_of(client.get(address).content.decode())
        client.post(f"/craft/{craft.pk}/slips/new/", sent)
        slip = Slip.objects.get()
        assert slip.prediction["flight"] == flight.number
        flown, told, low, high = slip.prediction["metrics"]["motor_roughness"]
        assert low < told < high
        assert told < flown
        chart = client.get(f"{slip.get_absolute_url()}charts/step/roll.json").json()
        assert [line["label"] for line in chart["lines"]] == ["before (1)", "predicted"]
        assert max(chart["lines"][1]["y"]) < 1.2
        page = client.get(slip.get_absolute_url()).content.decode()
        assert "Prediction and result" in page
        assert page.count("not flown") >= 1
        (row,) = [one for one in rows_of(slip, {"motor_roughness": (flown, flown)}) if one.label == "motor roughness"]
        assert row.met is not None
        assert row.met.is_miss, "nothing moved where much was predicted"
        assert (row.unit, row.before) == ("%", pytest.approx(100 * flown))

    def test_flights_so_far_are_set_against_it_before_the_planned_number_is_flown(self) -> None:
        def standing(number: int, state: str, roughness: float, *, is_after: bool) -> Standing:
            flight = FlownFlight(number=number, is_after=is_after, metrics={"motor_roughness": roughness})
            return Standing(flight=flight, state=state)

        flown = [
            standing(1, COUNTS, 0.01, is_after=False), standing(2, COUNTS, 0.04, is_after=False),
            standing(3, COUNTS, 0.015, is_after=True), standing(4, SUGGESTED, 0.5, is_after=True),
        ]  # fmt: skip
        assert means_so_far(flown) == {"motor_roughness": (pytest.approx(0.02), pytest.approx(0.015))}
        assert means_so_far(flown[:2])["motor_roughness"][1] is None

    @pytest.mark.parametrize(("after", "widens"), [(1.28, False), (1.9, True)])
    def test_the_craft_s_record_widens_what_is_predicted_later(
        self, client: Client, craft: Craft, flight: Flight, slip_text, after: float, widens: bool
    ) -> None:
        slip = tunes.make_slip(tunes.tune_of(craft), group="d_filters", text=slip_text, values={"smooth d hz": "80"})
        slip.prediction = {"flight": 1, "stable": True, "metrics": {"motor_roughness": [0.017, 0.0128, 0.0115, 0.0142]}}
        slip.state = Slip.State.KEPT
        slip.save()
        assert widened_of(craft) == 1.0, "without a decision's numbers there is no record"
        measured = {"name": "motor_roughness", "before_mean": 1.7, "after_mean": after}
        SlipDecision.objects.create(slip=slip, outcome="keep", comparison={"metrics": [measured]})
        assert (abs(errors_of(craft)[0]) > 1.5) is widens
        assert (widened_of(craft) > 1.0) is widens

    def test_a_slip_without_a_flight_to_go_by_has_no_prediction(self, craft: Craft, slip_text) -> None:
        slip = tunes.make_slip(tunes.tune_of(craft), group="d_filters", text=slip_text, values={"smooth d hz": "80"})
        assert slip.prediction == {}
