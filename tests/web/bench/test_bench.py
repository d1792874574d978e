"""The noise bench through its pages: maps, spectra, motors, sensors, repairs and the mechanics-first gate."""

import json
from itertools import product

import numpy as np
import pytest
from django.test import Client

from nembrit.core.formats import nembrit_csv
from nembrit.core.simulate.airframe import Faults, SecondGyro, World
from nembrit.core.simulate.flight import DECIMALS, fly, write_order
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.trials import trial_of
from tests.flying import CARD, HEX, controller, log_file
from tests.pageforms import fields_of

GAINS = {"title": "Less P", "primary_metric": "tracking_error.roll", "direction": "lower", "card_key": "response"}


def text(client: Client, address: str, status: int = 200) -> str:
    answer = client.get(address)
    assert answer.status_code == status, answer.content[:300]
    return answer.content.decode()


def rest_log(seconds: float = 40.0, *, warm: bool = True) -> bytes:
    """A gyro on the bench: noise, a slow drift, and its temperature."""
    rng = np.random.default_rng(9)
    t_s = np.arange(int(seconds * 500)) / 500
    temperature = 25 + 10 * (1 - np.exp(-t_s / 15)) if warm else np.full(t_s.size, 25.0)
    rows = [(f"gyro_raw.{axis}", 0.02 * (temperature - 30) + rng.normal(0, 0.1, t_s.size)) for axis in ("roll", "pitch", "yaw")]
    return nembrit_csv.write([*rows, ("gyro_temperature", temperature)], t_s, decimals={"gyro_raw": 4, "gyro_temperature": 3})


@pytest.fixture
def loose(attach) -> Flight:
    return attach()  # a flight with a loose mount


class TestNoisePage:
    def test_the_title_says_where_the_loudest_line_is(self, client: Client, loose: Flight) -> None:
        page = text(client, f"{loose.get_absolute_url()}noise/")
        assert "the loudest line" in page
        assert "Motor speeds are recorded" in page
        assert "jitter" in page

    def test_maps_as_data(self, client: Client, loose: Flight) -> None:
        for role, by in product(("gyro_raw.roll", "gyro.yaw"), ("throttle", "speed", "time")):
            data = json.loads(text(client, f"{loose.get_absolute_url()}noise/map.json?role={role}&by={by}"))
            assert len(data["edges"]) == len(data["db"]) + 1
            assert len(data["seconds"]) == (0 if by == "time" else len(data["db"]))
            levels = [value for row in data["db"] for value in row if value is not None]
            assert -120 <= min(levels) < max(levels) < 60
            assert {line["kind"] for line in data["lines"]} <= {"motor", "blade", "resonance", "unknown"}

    def test_spectra_of_chosen_stretches(self, client: Client, loose: Flight, attach) -> None:
        attach(name="second.csv")
        page = text(
            client, f"{loose.get_absolute_url()}noise/?axis=pitch&kind=hover&show=amplitude&scale=linear&x=log&family=gyro"
        )
        chosen = page.split('aria-label="What the map shows"')[1].split("</form>")[0]
        for name, value in (("kind", "hover"), ("show", "amplitude"), ("scale", "linear"), ("x", "log"), ("family", "gyro")):
            assert f'name="{name}" value="{value}"' in chosen, "another axis keeps what was chosen"
        assert "pitch, RMS in deg/s" in page
        chart = json.loads(
            text(client, f"{loose.get_absolute_url()}noise/spectrum.json?axis=pitch&show=cumulative&family=gyro_raw")
        )
        sums = [value for value in chart["lines"][0]["y"] if value is not None]
        assert sums == sorted(sums)

    def test_wrong_input_is_told(self, client: Client, loose: Flight) -> None:
        for query, told in (
            ("low=60&high=20", "from a lower to a higher number"),
            ("low=abc", "throttle range should be a number, not “abc”"),
            ("axis=sideways", "from the lists"),
            ("low=-5&high=200", "within 0 to 100"),
        ):
            assert told in text(client, f"{loose.get_absolute_url()}noise/?{query}", 400)
            assert told in text(client, f"{loose.get_absolute_url()}noise/spectrum.json?{query}", 400)

    def test_what_was_not_flown_or_recorded_is_told(self, client: Client, loose: Flight) -> None:
        assert "s of this flight are in this" in text(client, f"{loose.get_absolute_url()}noise/?low=97&high=98")
        assert "is not recorded" in text(client, f"{loose.get_absolute_url()}noise/map.json?role=b/gyro_raw.roll", 400)
        assert client.get("/craft/1/flights/999/noise/").status_code == 404

    def test_a_flight_without_a_log(self, client: Client, craft: Craft) -> None:
        from nembrit.web.flights.services import create_flight

        bare = create_flight(craft)
        for page in ("noise", "vibration", "sensors"):
            assert "No log yet" in text(client, f"{bare.get_absolute_url()}{page}/")


class TestMotors:
    def test_motors_vibration_and_spikes_stand_side_by_side(self, client: Client, loose: Flight) -> None:
        page = text(client, f"{loose.get_absolute_url()}vibration/")
        for part in ("motor 6", "above 15 Hz", "busiest at", "Spikes in the raw gyro", "Propellers off"):
            assert part in page

    def test_balance_sums(self, client: Client, loose: Flight) -> None:
        for query, status, told in (
            ("mass_g=12&speed_rpm=20000&grade=6.3", 200, "0.0361 g mm"),  # ISO 21940-11, worked by hand
            ("diameter_in=5&speed_rpm=25000", 200, "166 m/s"),
            ("mass_g=4&speed_rpm=18000&accel=0.05&craft_mass_g=600", 200, "grade"),
            ("mass_g=0", 400, "must be above 0"),
            ("speed_rpm=fast", 400, "speed rpm should be a number"),
            ("blades=40", 400, "1 to 8 blades"),
            ("grade=", 400, "is empty"),
        ):
            assert told in text(client, f"{loose.get_absolute_url()}vibration/?{query}", status), query


class TestSensors:
    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_a_second_board_and_a_swap(self, client: Client, attach) -> None:
        files = []
        for seed in (31, 32):  # the second board is the noisy one wherever it sits
            flight = fly(HEX, controller(), CARD, World(seed=seed, second_gyro=SecondGyro(noise_factor=4.0)))
            roles = [*write_order(HEX), *(f"b/gyro_raw.{axis}" for axis in ("roll", "pitch", "yaw"))]
            files.append(
                nembrit_csv.write(
                    [(role, flight.channels[role]) for role in roles], flight.t_s, decimals={**DECIMALS, "b/gyro_raw": 2}
                )
            )
        first, second = attach(files[0]), attach(files[1], name="swapped.csv")
        page = text(client, f"{first.get_absolute_url()}sensors/")
        assert "The second board is noisier" in page
        assert "Swap the boards" in page
        page = text(client, f"{first.get_absolute_url()}sensors/?swap={second.number}")
        assert "moves with the sensor" in page
        assert "has no log" in text(client, f"{first.get_absolute_url()}sensors/?swap=999")

    @pytest.mark.parametrize(("warm", "told"), [(True, "The zero settles after"), (False, "moved by 0.0 K only")])
    def test_a_recording_at_rest(self, client: Client, attach, warm: bool, told: str) -> None:
        flight = attach(rest_log(warm=warm), name="rest.csv")
        page = text(client, f"{flight.get_absolute_url()}sensors/")
        assert "A gyro at rest" in page
        assert told in page
        chart = json.loads(text(client, f"{flight.get_absolute_url()}sensors/allan.json"))
        assert [line["label"] for line in chart["lines"]] == ["roll", "pitch", "yaw"]
        assert (chart["x"]["is_log"], chart["y"]["is_log"]) == (True, True)

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_a_companion_log_is_the_second_board(self, client: Client, attach, act) -> None:
        first = attach()
        second = attach(log_file(5, 0.0), name="board-b.csv")
        log = second.segments.get().log
        act(f"/logs/{log.pk}/move/", to=f"flight-{first.pk}")
        assert first.segments.count() == 2
        page = text(client, f"{first.get_absolute_url()}sensors/")
        assert "The second gyro is that of board-b.csv" in page
        assert "The first board is noisier" in page  # it sits on a loose mount

    def test_one_gyro_alone(self, client: Client, loose: Flight) -> None:
        assert "No second gyro in this log" in text(client, f"{loose.get_absolute_url()}sensors/")
        assert client.get(f"{loose.get_absolute_url()}sensors/allan.json").status_code == 404


class TestMechanicsFirst:
    def test_a_repair_is_one_press(self, client: Client, loose: Flight, act) -> None:
        page = text(client, f"{loose.get_absolute_url()}")
        assert "Record the tightened mount" in text(client, f"/craft/{loose.craft_id}/next/")
        assert "Checks not possible" in page
        page = act(f"{loose.get_absolute_url()}repair/", code="loose_mount")
        slip = Slip.objects.get()
        assert (slip.group, slip.result_build.part, slip.primary_metric) == (
            "hardware",
            "flight controller tray",
            "motion_noise.roll",
        )
        assert slip.card_key == loose.card_key
        assert slip.result_build.simulated_faults == {}
        assert "Repair it, then fly the same card" in page
        assert "is still open" in act(f"{loose.get_absolute_url()}repair/", code="loose_mount")
        assert Slip.objects.count() == 1

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_the_flight_whose_finding_led_to_a_repair_is_no_before(self, attach, act) -> None:
        sound, loose = attach(log_file(6, 0.0), name="sound.csv"), attach(log_file(5, 1.0), name="loose.csv")
        again = attach(log_file(7, 0.0), name="again.csv")  # others count by rule, whatever they say
        act(f"{loose.get_absolute_url()}repair/", code="loose_mount")
        states = {row.flight: row.standing.state for row in trial_of(Slip.objects.get()).judged}
        assert states == {sound: "counts", loose: "apart", again: "counts"}
        assert trial_of(Slip.objects.get()).fault.in_words == "not seen in 0 flights since; 4 are needed"
        attach(log_file(7, 1.0), name="not cured.csv")
        trial = trial_of(Slip.objects.get())
        assert trial.fault.in_words == "still there in 1 of 1 flights since"
        assert trial.verdict.word == "not_yet"

    def test_gains_wait_for_mechanics_or_for_a_reason(self, client: Client, craft: Craft, loose: Flight, act) -> None:
        address = f"/craft/{craft.pk}/slips/new/?group=pd.roll"
        form = text(client, address)
        assert "Mechanics first" in form
        values = fields_of(form) | {"value-p on roll": "38"}
        assert "mechanics first" in act(address, **values | GAINS)
        assert not Slip.objects.exists()
        act(address, **values | GAINS | {"despite": "the mount is printed anew, it arrives on Friday"})
        slip = Slip.objects.get()
        assert slip.despite.startswith("the mount is printed")
        assert "Despite a mechanical fault" in text(client, slip.get_absolute_url())

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_a_sound_flight_asks_for_no_repair(self, client: Client, craft: Craft, attach, act) -> None:
        sound = attach(log_file(6, 0.0))
        assert "repair/" not in text(client, f"{sound.get_absolute_url()}")
        assert "has no finding that needs a repair" in act(f"{sound.get_absolute_url()}repair/", code="propeller")


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_a_flight_that_is_worse_than_usual_or_whose_spikes_moved_says_so(craft: Craft, attach) -> None:
    from nembrit.core.causes.findings import History
    from nembrit.web.bench.results import _history

    flights = [attach(log_file(seed, 0.0), name=f"{seed}.csv") for seed in (6, 7)]
    history = _history(flights[1])
    assert isinstance(history, History)
    assert len(history.metrics["motion_noise.roll"]) == 1  # the flight before, not this one


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "fault0",
        "fault1",
    ),
)
@pytest.mark.parametrize("fault", [{"propeller_motor": 2}, {"spike_axis": "yaw"}])
def test_the_page_of_a_flight_names_motor_or_axis(client: Client, attach, fault: dict[str, object]) -> None:
    flight = fly(HEX, controller(), CARD, World(seed=11, wind_m_s=2.0, faults=Faults(**fault)))
    content = nembrit_csv.write([(role, flight.channels[role]) for role in write_order(HEX)], flight.t_s, decimals=DECIMALS)
    page = text(client, attach(content).get_absolute_url())
    assert ("motor 2" if "propeller_motor" in fault else "spikes on yaw") in page
    assert "What else it could be" in page


def test_a_tab_says_when_it_has_nothing_for_the_flight(client: Client, craft: Craft, attach) -> None:
    flight = attach()
    page = client.get(flight.get_absolute_url()).content.decode()
    assert "Sensors<span" in page.replace("\n", "")
    assert "has no second gyro" in page
    assert "has no second gyro" not in client.get(f"/craft/{craft.pk}/").content.decode()
