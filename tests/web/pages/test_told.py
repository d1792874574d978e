"""What pages say: numbers as text, pictures as data, the track and the ledger, findings and next steps."""

import math
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from django.test import Client

from nembrit.core.analysis.judgement import Judgement
from nembrit.core.analysis.metrics import Metrics
from nembrit.core.analysis.noise import AxisNoise, GyroNoise, Noise
from nembrit.core.analysis.response import Response
from nembrit.core.analysis.run import FlightResults
from nembrit.core.causes.finding import Finding
from nembrit.core.causes.table import CAUSES
from nembrit.core.noise.bands import BandLevel
from nembrit.core.noise.peaks import Peak
from nembrit.core.response.step import StepResponse
from nembrit.core.spectra.density import Spectrum
from nembrit.web.bench import charts
from nembrit.web.bench.flight import headline, noise_rows
from nembrit.web.bench.results import latest_act_finding, store
from nembrit.web.common.charts import Axis, Chart, Line, decibels
from nembrit.web.common.templatetags import nembrit as filters
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of, cards, create_flight, set_archived
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs.models import Log, Segment
from nembrit.web.tunes import history
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.trials import sides_of, trial_of


@pytest.mark.parametrize(
    ("value", "count", "text"),
    [
        (None, 3, "–"),
        (math.nan, 3, "–"),
        (0, 3, "0"),
        (1234.5, 3, "1234"),
        (0.01234, 2, "0.012"),
        (-5.678, 2, "−5.7"),
        (9.999, 3, "10.00"),
        (100.0, 3, "100"),
    ],
)
def test_digits(value: float | None, count: int, text: str) -> None:
    assert filters.digits(value, count) == text


@pytest.mark.parametrize(
    ("made", "text"),
    [
        (filters.signed(0.5, 2), "+0.50"),
        (filters.signed(-0.5, 2), "−0.50"),
        (filters.signed(None), "–"),
        (filters.interval([1.0, 2.5]), "1.0 to 2.5"),
        (filters.interval(None), ""),
        (filters.interval([None, 1.0]), ""),
        (filters.open_interval([None, -18.0]), "at most −18"),
        (filters.open_interval([4.0, None]), "at least +4.0"),
        (filters.open_interval([-31.0, 5.0]), "−31 to +5.0"),
        (filters.open_interval(None), ""),
        (filters.percent(0.954), "95\u202f%"),
        (filters.percent(None), "–"),
        (filters.likelihood(0.8), "very likely"),
        (filters.likelihood(0.79), "likely"),
        (filters.likelihood(0.49), "possible"),
        (filters.likelihood(0.24), "hardly likely"),
        (filters.minutes(71), "1:11"),
        (filters.minutes(None), "–"),
        (filters.megabytes(16_034_304), "16.0\u202fMB"),
        (filters.megabytes(2_300), "2.3\u202fkB"),
        (filters.scaled(0.25, 100.0), 25.0),
        (filters.scaled(None, 100.0), None),
        (filters.title_of("loose_mount"), "loose mount or tray"),
        (filters.title_of("snap_stop"), "snap stop"),
        (filters.item({"a": 1}, "a"), 1),
        (filters.item({}, "a"), None),
    ],
)
def test_other_words_for_numbers(made: object, text: object) -> None:
    assert made == text


def test_decibels_have_nothing_for_nothing() -> None:
    assert decibels([1.0, 100.0, 0.0, None, -1.0]) == [0.0, 20.0, None, None, None]


def test_a_chart_is_plain_data() -> None:
    line = Line(label="a", x=[0.0], y=[1.0])
    made = Chart(title="t", x=Axis(label="x", unit="s"), y=Axis(label="y", unit="1"), lines=[line]).as_json()
    assert made["lines"][0]["low"] is None
    assert made["bands"] == made["marks"] == []


HUMP = Finding(
    code="loose_mount", severity="act", confidence=0.9, highlight="A hump of 9.0 dB around 54 Hz",
    conclusion="in roll and pitch.", evidence={"peak_hz": 54.0}, proof="Press it.", marks_hz=(42.0, 132.0),
)  # fmt: skip


def results(
    *, findings: int = 0, overshoot: float | None = 0.05, untested: int = 0, noise: bool = True, motion: float | None = 1.0
) -> FlightResults:
    """Results of a flight that was never flown."""
    grid = np.arange(301) * 2.0
    spectrum = Spectrum(frequency_hz=grid, psd_dps2_per_hz=1.0 / (1 + np.arange(301)), n_segments=9, n_effective=9.0)
    levels = tuple(BandLevel(name=name, low_hz=1.0, high_hz=2.0, rms_dps=1.0, rms_interval_dps=(0.9, 1.1))
                   for name in ("motion", "jitter", "above"))  # fmt: skip
    gyro = GyroNoise(spectrum=spectrum, levels=levels, peaks=(Peak(frequency_hz=181.0, level_db=9.0, psd_dps2_per_hz=1.0),))
    axes = {"roll": AxisNoise(raw=gyro, filtered=gyro), "pitch": AxisNoise(filtered=gyro), "yaw": AxisNoise(reason="no gyro")}
    t_s = np.array([0.001, 0.003])
    step = StepResponse(
        t_s=t_s, response=np.array([0.1, 1.0]), low=np.array([0.0, 0.9]), high=np.array([0.2, 1.1]),
        overshoot_ratio=overshoot or 0.0, overshoot_interval=(0.0, 0.1), least_overshoot_ratio=0.0, delay_s=0.02,
        delay_interval_s=(0.01, 0.03), usable_s=9.0, excitation="good",
    )  # fmt: skip
    return FlightResults(
        noise=Noise(axes=axes if noise else dict.fromkeys(axes, AxisNoise(reason="no gyro"))),
        response=Response(steps={} if overshoot is None else {"roll": step}, reasons={}),
        metrics=Metrics(
            values={} if motion is None else {"motion_noise.roll": motion},
            noise_channel="gyro_raw",
            sample_rate_hz=2000.0,
            window_s=25.0,
        ),
        judgement=Judgement(findings=(HUMP,) * findings, untested={cause.code: "too slow" for cause in CAUSES[:untested]}),
    )


@pytest.mark.parametrize(
    ("found", "title"),
    [
        (results(findings=1), "A hump of 9.0 dB around 54 Hz in roll and pitch"),
        (results(), "No problem found; every axis follows with little overshoot"),
        (results(overshoot=0.24), "No problem found; roll overshoots most, by 24 %"),
        (results(untested=1), "No problem found (1 check not possible); every axis"),
        (results(overshoot=0.24, untested=9), "Roll overshoots most, by 24 %"),
        (results(overshoot=None), "Noise measured; the response could not be judged"),
        (results(overshoot=None, noise=False), "This log is not enough for this"),
    ],
)
def test_the_title_of_a_flight_is_its_main_finding(found: FlightResults, title: str) -> None:
    assert headline(found).startswith(title)


def test_noise_pictures_mark_what_the_finding_rests_on() -> None:
    roll = charts.noise_chart(results(findings=1), "roll")
    assert [band.label for band in roll.bands if band.is_marked] == ["hump"]
    assert [line.label for line in roll.lines] == ["raw", "filtered"]
    assert [mark.label for mark in roll.marks] == ["181 Hz"]
    assert [line.label for line in charts.noise_chart(results(), "pitch").lines] == ["filtered"]
    assert charts.noise_chart(results(), "yaw") is None
    assert charts.step_chart(results(), "pitch") is None
    assert charts.step_chart(results(), "roll").level == 1.0


def analysed(craft: Craft, found: FlightResults, **fields: object) -> Flight:
    flight = create_flight(craft, **fields)
    log = Log.objects.create(craft=craft, file_name="x.csv", state=Log.State.READY)
    segment = Segment.objects.create(log=log, flight=flight, start_s=0, end_s=1)
    for key in ("noise", "response", "metrics", "judgement"):
        store(segment, key, getattr(found, key))
    return flight


@pytest.mark.django_db
class TestCraft:
    def test_noise_is_compared_with_the_flight_before_and_the_best(self, craft: Craft) -> None:
        analysed(craft, results(motion=0.5))
        analysed(craft, results(motion=2.0))
        last = analysed(craft, results())
        rows, previous = noise_rows(last, results())
        assert previous.number == 2
        assert [row.axis for row in rows] == ["roll", "pitch"]
        assert (rows[0].change_ratio, rows[0].best_dps) == (-0.5, 0.5)
        assert rows[1].change_ratio is None

    def test_the_newest_flight_decides_what_comes_first(self, craft: Craft) -> None:
        assert latest_act_finding(craft) is None
        loose = analysed(craft, results(findings=1))
        assert latest_act_finding(craft)[0] == loose
        sound = analysed(craft, results())
        assert latest_act_finding(craft) is None
        set_archived(sound, archived=True)
        assert latest_act_finding(craft)[0] == loose

    def test_mechanics_first_is_said_on_the_slip(self, craft: Craft, client: Client) -> None:
        analysed(craft, results(findings=1))
        page = client.get(f"/craft/{craft.pk}/slips/new/?group=pd.roll").content.decode()
        assert "Mechanics first" in page
        form = client.get(f"/craft/{craft.pk}/slips/new/?group=hardware").content.decode().split('<form method="post">')[1]
        assert "Mechanics first" not in form.split("</form>")[0]

    def test_flights_are_numbered_and_know_their_settings_and_build(self, craft: Craft, configuration: Configuration) -> None:
        first, second = create_flight(craft), create_flight(craft, configuration=configuration, pack="pack 2")
        assert (first.number, second.number) == (1, 2)
        assert first.configuration == configuration
        assert second.build_entry == craft.build_entries.get()

    def test_cards_are_found_by_their_key(self) -> None:
        assert [card_of(card.key) for card in cards()] == list(cards())
        assert card_of("nothing") is None

    @pytest.mark.parametrize(
        ("kind", "layout", "summary"),
        [
            ("multirotor", "quad", "quadcopter, 5 in"),
            ("multirotor", "octo", "octocopter, 5 in"),
            ("fixed_wing", None, "model aeroplane"),
        ],
    )
    def test_summaries(self, kind: str, layout: str | None, summary: str) -> None:
        assert hangar.create_craft(layout=layout, name="x", kind=kind).summary == summary

    def test_a_wing_has_a_station_for_trim_and_the_simulators_plane(self, client: Client) -> None:
        wing = hangar.create_craft(layout=None, name="Kestrel feather", kind="fixed_wing")
        assert [station.key for station in history.track(tunes.tune_of(wing))][2] == "trim"
        assert hangar.mixer_of(wing) is None
        assert "Fly in the simulator" in client.get(f"/craft/{wing.pk}/").content.decode()

    @pytest.mark.parametrize(
        ("card", "condition", "told"),
        [
            ("response", "as_built", "response is not one of the available choices"),
            ("wing_trim", "broken_blade", "broken_blade is not one of the available choices"),
        ],
    )
    def test_a_wing_flies_no_multirotors_card_in_the_simulator(
        self, client: Client, card: str, condition: str, told: str
    ) -> None:
        wing = hangar.create_craft(layout=None, name="Reed", kind="fixed_wing")
        from nembrit.demo.texts import JUNIPER_SETTINGS, NAME_MAP

        made = hangar.paste_configuration(wing, JUNIPER_SETTINGS)
        hangar.save_name_map(wing, {name: entry for name, entry in NAME_MAP.items() if f"{name} =" in JUNIPER_SETTINGS})
        form = {
            "card": card,
            "configuration": made.pk,
            "flights": 1,
            "seed": 1,
            "wind_m_s": 1,
            "pack_charge_pct": 90,
            "condition": condition,
        }
        answer = client.post(f"/craft/{wing.pk}/simulator/", form)
        assert answer.status_code == 400
        assert told in answer.content.decode()
        assert Log.objects.count() == 0


@pytest.mark.django_db
class TestTune:
    def test_a_new_craft_stands_at_its_baseline(self, craft: Craft) -> None:
        stations = history.track(tunes.tune_of(craft))
        assert [(station.key, station.state) for station in stations[:2]] == [("baseline", "open"), ("mechanics", "ahead")]
        assert stations[0].outcome == "r1 is the reference"
        assert tunes.tune_of(craft) == tunes.tune_of(craft)

    @pytest.mark.parametrize(
        ("group", "stage"),
        [
            ("hardware", "mechanics"),
            ("gyro_filters", "filters"),
            ("d_filters", "filters"),
            ("trim", "trim"),
            ("pd.yaw", "gains"),
            ("idle", "gains"),
        ],
    )
    def test_each_group_belongs_to_a_stage(self, group: str, stage: str) -> None:
        assert tunes.stage_of(group) == stage

    def test_groups_offered_are_those_that_the_configuration_has(self, configuration: Configuration) -> None:
        offered = {key: count for key, _, count in tunes.groups_of(configuration)}
        assert offered["pd.roll"] == 2
        assert offered["hardware"] == 0
        assert offered["other"] == 3  # loop rate, beeper and lamp
        assert "trim" not in offered

    def test_the_ledger_runs_from_new_to_old_and_groups_flights(self, craft: Craft, slip_text: tunes.SlipText) -> None:
        day = datetime(2026, 3, 1, 10, tzinfo=UTC)
        for minute in range(3):
            create_flight(craft, flown_at=day + timedelta(minutes=minute))
        create_flight(craft, flown_at=day + timedelta(days=1))
        tune = tunes.tune_of(craft)
        slip = tunes.make_slip(tune, group="pd.roll", text=slip_text, values={"d on roll": "30"})
        tunes.decide(slip, "keep", note="calm day")
        lines = history.ledger(tune)
        assert [line.at for line in lines] == sorted((line.at for line in lines), reverse=True)
        assert [len(line.flights) for line in lines if line.kind == "flights"] == [1, 3]
        decision = next(line for line in lines if line.kind == "decision")
        assert decision.text == "Slip 1 kept: before a verdict"
        assert decision.detail == "calm day"

    def test_undone_slips_are_told_on_the_track(self, craft: Craft, slip_text: tunes.SlipText) -> None:
        tune = tunes.tune_of(craft)
        slip = tunes.make_slip(tune, group="gyro_filters", text=slip_text, values={"smooth gyro hz": "150"})
        stations = {station.key: station.outcome for station in history.track(tune)}
        assert stations["filters"] == "slip 1 flying"
        tunes.decide(slip, "undo")
        stations = {station.key: station.outcome for station in history.track(tune)}
        assert stations["filters"] == "slip 1 undone"

    def test_flights_of_another_card_or_an_archived_one_do_not_judge(self, craft: Craft, slip_text: tunes.SlipText) -> None:
        from dataclasses import replace

        flights = [create_flight(craft, card_key=key) for key in ("response", "response", "full")]
        set_archived(flights[0], archived=True)
        slip = tunes.make_slip(
            tunes.tune_of(craft), group="pd.roll", text=replace(slip_text, card_key="response"), values={"d on roll": "30"}
        )
        assert [row.flight for row in trial_of(slip).judged] == [flights[1]]
        assert [flight for flight, _ in sides_of(slip)] == flights[1:]

    def test_the_tune_is_renamed_and_moved_on_by_hand(self, craft: Craft, client: Client) -> None:
        client.post(f"/craft/{craft.pk}/tune/", {"name": "Spring tune", "route": "step_up", "stage": "verify"})
        tune = Tune.objects.get()
        assert (tune.name, tune.route, tune.stage) == ("Spring tune", "step_up", "verify")
        client.post(f"/craft/{craft.pk}/tune/", {"name": "", "route": "luck", "stage": "moon"})
        assert Tune.objects.get().name == "Spring tune"

    def test_a_build_entry_keeps_what_the_simulator_suffers_from(self, craft: Craft, client: Client) -> None:
        client.post(f"/craft/{craft.pk}/builds/new/", {"part": "propellers", "text": "a fresh set"})
        assert craft.build_entries.last().simulated_faults == {"loose_mount": 1.0}
        assert client.post(f"/craft/{craft.pk}/builds/new/", {"part": ""}).status_code == 400
        assert craft.build_entries.count() == 2

    def test_a_decision_needs_to_be_one_of_two(self, craft: Craft, client: Client, slip_text: tunes.SlipText) -> None:
        slip = tunes.make_slip(tunes.tune_of(craft), group="pd.roll", text=slip_text, values={"d on roll": "30"})
        page = client.post(f"/slips/{slip.pk}/decide/", {"outcome": "perhaps"}, follow=True).content.decode()
        assert "Choose keep or undo." in page
        slip.refresh_from_db()
        assert slip.state == "open"
        assert client.get(f"/slips/{slip.pk}/charts/step/roll.json").status_code == 404
        assert client.get(f"/slips/{slip.pk}/charts/luck/roll.json").status_code == 404


@pytest.mark.django_db
def test_traces_answer_wrong_questions_with_a_sentence(attach, client: Client) -> None:
    log = attach().segments.get().log
    for query in ("", "?from=5&to=1", "?from=a&to=b", "?from=0&to=1&columns=x", "?from=0&to=1&roles=gyro.left"):
        answer = client.get(f"/logs/{log.pk}/trace/{query}")
        assert answer.status_code == 400, query
        assert len(answer.content) > 20
