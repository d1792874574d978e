from typing import Any

from django import forms

from nembrit.web.common.fields import MomentField, NumberField
from nembrit.web.common.seen import SeenForm
from nembrit.web.flights.models import Flight


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
        self.fields["card_key"] = forms.ChoiceField(choices=[("", "no card"), *cards], required=False, label="Card")
