from typing import Any

from django import forms

from nembrit.web.common.fields import MomentField, NumberField
from nembrit.web.common.seen import SeenForm
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_choices, card_of


class CardForm(forms.Form):
    """A composed card’s name and what it is for."""

    name = forms.CharField(max_length=60, label="Name")
    purpose = forms.CharField(max_length=200, required=False, label="What it is for")


class OutingForm(forms.Form):
    """What a flight at the field is flown with."""

    card_key = forms.ChoiceField(label="Card")
    pack = forms.CharField(max_length=60, required=False, label="Pack")
    wind_m_s = NumberField(low=0, high=40, required=False, label="Wind, m/s")
    conditions = forms.CharField(max_length=200, required=False, label="Conditions")
    despite = forms.CharField(max_length=300, required=False, label="Reason to fly despite a failed check (saved)")

    def __init__(self, *args: Any, craft_kind: str, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        card = self.fields["card_key"]
        assert isinstance(card, forms.ChoiceField)
        card.choices = card_choices(craft_kind)


class FlightForm(SeenForm):
    """What is noted about a flight."""

    flown_at = MomentField(label="When (UTC)")
    wind_m_s = NumberField(low=0, high=40, required=False, label="Wind, m/s")

    class Meta:
        model = Flight
        fields = (
            "configuration", "build_entry", "flown_at", "card_key", "pack", "wind_m_s", "conditions", "ended", "heat", "notes",
        )  # fmt: skip
        labels = {
            "configuration": "Configuration flown",
            "build_entry": "Build",
            "card_key": "Card",
            "pack": "Pack",
            "conditions": "Conditions",
            "ended": "How it ended",
            "heat": "Motors after landing",
            "notes": "Notes",
        }
        widgets = {"notes": forms.Textarea(attrs={"rows": 4})}

    def __init__(self, *args: Any, cards: list[tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        craft = self.instance.craft
        configurations = self.fields["configuration"]
        assert isinstance(configurations, forms.ModelChoiceField)
        configurations.queryset = craft.configurations.all()
        self.fields["configuration"].required = False
        builds = self.fields["build_entry"]
        assert isinstance(builds, forms.ModelChoiceField)
        builds.queryset = craft.build_entries.all()
        own = self.instance.card_key
        kept = [(own, card.name)] if own not in dict(cards) and (card := card_of(own)) else []  # a card that was put away stays
        self.fields["card_key"] = forms.ChoiceField(choices=[("", "no card"), *cards, *kept], required=False, label="Card")
