from typing import Any

from django import forms

from nembrit.web.flights.services import card_choices
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.simulator.conditions import CONDITIONS, PLANE_CONDITIONS


class SimulatorForm(forms.Form):
    """A flight in the simulator: the stand-in for going out to fly."""

    FAULTS = [("as_built", "as it is built"), *((key, label) for key, (label, _) in CONDITIONS.items())]

    card = forms.ChoiceField(choices=lambda: card_choices(Craft.Kind.MULTIROTOR), initial="response", label="Card")
    configuration = forms.ModelChoiceField(queryset=Configuration.objects.none(), label="Configuration", empty_label=None)
    flights = forms.IntegerField(min_value=1, max_value=8, initial=1, label="Flights, one after another")
    seed = forms.IntegerField(min_value=0, max_value=2**31, label="Seed", help_text="the same seed repeats the same flight")
    wind_m_s = forms.FloatField(min_value=0, max_value=25, initial=2, label="Wind, m/s")
    pack_charge_pct = forms.FloatField(min_value=10, max_value=100, initial=95, label="Pack charge, %")
    second_board = forms.BooleanField(required=False, label="A second board records the same flight")
    condition = forms.ChoiceField(choices=FAULTS, initial="as_built", label="The craft flies", widget=forms.RadioSelect)

    DETAILS = ("wind_m_s", "pack_charge_pct", "seed", "second_board")

    def __init__(self, *args: Any, craft: Craft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        configurations = self.fields["configuration"]
        assert isinstance(configurations, forms.ModelChoiceField)
        configurations.queryset = craft.configurations.all()
        self.fields["configuration"].initial = craft.configurations.first()
        if craft.kind == Craft.Kind.FIXED_WING:
            known = {
                "card": card_choices(craft.kind),
                "condition": [self.FAULTS[0], *((key, label) for key, (label, _) in PLANE_CONDITIONS.items())],
            }
            for name, choices in known.items():
                field = self.fields[name]
                assert isinstance(field, forms.ChoiceField)
                field.choices = choices
            self.fields["card"].initial = "wing_trim"
            del self.fields["second_board"]

    @property
    def main_fields(self) -> list[forms.BoundField]:
        return [self[name] for name in self.fields if name not in (*self.DETAILS, "condition")]

    @property
    def detail_fields(self) -> list[forms.BoundField]:
        return [self[name] for name in self.fields if name in self.DETAILS]

    @property
    def has_wrong_detail(self) -> bool:
        return any(name in self.errors for name in self.DETAILS)
