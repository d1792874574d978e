"""Slips that wait, ranked; and two groups changed at once."""

import pytest
from django.test import Client

from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.tuning.ranking import ranked, weigh
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Slip, WaitingSlip
from tests.pageforms import fields_of

PLAN = Plan(primary=Primary(metric="motor_roughness", direction="lower"), limits=(Limit(metric="overshoot.roll", most=0.03),))
DOWN_20 = {"motor_roughness": [0.010, 0.008, 0.008, 0.008]}


class TestRanking:
    @pytest.mark.parametrize(
        ("metrics", "gain", "risk", "told"),
        [
            (DOWN_20, 1.0, None, "motor roughness down by 20 %; possible harm not predicted"),
            (
                DOWN_20 | {"overshoot.roll": [0.05, 0.06, 0.05, 0.065]},
                1.0,
                0.5,
                "up to 50 % of its limit on overshoot, roll",
            ),
            (DOWN_20 | {"overshoot.roll": [0.05, 0.06, 0.05, 0.09]}, 1.0, 4 / 3, "may break its limit on overshoot, roll"),
            (DOWN_20 | {"overshoot.roll": [0.05, 0.03, 0.02, 0.04]}, 1.0, 0.0, "up to 0 %"),
            ({"motor_roughness": [0.010, 0.0125, 0.012, 0.013]}, -1.0, None, "motor roughness up by 25 %"),
            ({}, None, None, "no prediction"),
        ],
    )
    def test_a_change_is_weighed_by_its_prediction(
        self, metrics: dict[str, list[float]], gain: float | None, risk: float | None, told: str
    ) -> None:
        """By hand: 20 % is a change that matters, 3 points the limit."""
        found = weigh(metrics, PLAN)
        assert found.gain == (None if gain is None else pytest.approx(gain))
        assert found.risk == (None if risk is None else pytest.approx(risk))
        assert told in found.words

    def test_the_surer_gain_within_its_limits_comes_first(self) -> None:
        safe = {"overshoot.roll": [0.05, 0.05, 0.04, 0.06]}
        many = [
            weigh({"motor_roughness": [0.01, 0.005, 0.004, 0.006]}, PLAN, is_stable=False),
            weigh({}, PLAN),
            weigh({"motor_roughness": [0.01, 0.006, 0.005, 0.0099]} | safe, PLAN),
            weigh({"motor_roughness": [0.01, 0.005, 0.004, 0.006], "overshoot.roll": [0.05, 0.06, 0.05, 0.2]}, PLAN),
            weigh({"motor_roughness": [0.01, 0.007, 0.006, 0.008]} | safe, PLAN),
        ]
        assert ranked(many) == [4, 2, 1, 3, 0]


def written(client: Client, craft: Craft, **changes: str) -> dict[str, str]:
    """The form of a new slip, some fields typed anew."""
    address = f"/craft/{craft.pk}/slips/new/?group={changes['group']}&also={changes.get('also', '')}"
    return fields_of(client.get(address).content.decode()) | {"title": "another D"} | changes


@pytest.mark.django_db
class TestWaiting:
    def test_a_slip_waits_and_is_taken_up_again(self, client: Client, craft: Craft, attach, act) -> None:
        attach()
        address = f"/craft/{craft.pk}/slips/new/"
        given = written(client, craft, group="pd.roll", despite="to see what it does", **{"value-d on roll": "30"})
        page = act(address, **given, later="1")
        assert "is saved for later" in page
        assert craft.configurations.count() == 1
        assert not Slip.objects.exists()
        kept = WaitingSlip.objects.get()
        assert kept.values["d on roll"] == "30"
        assert "another D" in page
        again = fields_of(client.get(f"{address}?waiting={kept.pk}").content.decode())
        assert (again["value-d on roll"], again["title"], again["despite"]) == ("30", "another D", "to see what it does")
        act(address, **again)
        assert Slip.objects.get().title == "another D"
        assert not WaitingSlip.objects.exists()

    def test_one_that_waits_beside_older_settings_says_so(self, client: Client, craft: Craft, act) -> None:
        address = f"/craft/{craft.pk}/slips/new/"
        act(address, **written(client, craft, group="pd.roll", **{"value-d on roll": "30"}), later="1")
        act(address, **written(client, craft, group="pd.pitch", title="pitch first", **{"value-d on pitch": "30"}))
        page = client.get(f"/craft/{craft.pk}/tune/").content.decode()
        assert "predicted beside r1; the settings are r2 now" in page
        assert "Prediction updated for the current settings" in act(f"/craft/{craft.pk}/slips/waiting/", do="predict")
        assert "is removed" in act(f"/craft/{craft.pk}/slips/waiting/", waiting=str(WaitingSlip.objects.get().pk))

    @pytest.mark.parametrize(
        ("changes", "told"),
        [
            ({"confounded": ""}, "flights cannot separate two changes"),
            ({"confounded": "rain is coming", "value-p on pitch": None}, "nothing of"),
            ({"also": "hardware"}, None),
            ({"confounded": "rain is coming"}, None),
        ],
    )
    def test_two_groups_at_once_need_a_reason_and_are_marked(
        self, client: Client, craft: Craft, act, changes: dict[str, str | None], told: str | None
    ) -> None:
        fields = {"group": "pd.roll", "also": "pd.pitch", "value-d on roll": "30", "value-p on pitch": "40"} | changes
        given = written(client, craft, **{name: value for name, value in fields.items() if value is not None})
        page = act(f"/craft/{craft.pk}/slips/new/", **given)
        if told:
            assert told in page
            assert not Slip.objects.exists()
            return
        slip = Slip.objects.get()
        assert bool(slip.confounded) == (slip.also == "pd.pitch")
        if slip.also:
            assert "Confounded:" in page
            assert len(slip.result_configuration.settings.all()) == len(slip.base_configuration.settings.all())
