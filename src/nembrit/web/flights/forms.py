from typing import Any

from django import forms

from nembrit.web.common.fields import MomentField, NumberField
from nembrit.web.common.seen import seen_of
from nembrit.web.flights.models import Flight


class FlightForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    """What is noted about a flight. A second tab that saves an older state is told, with both texts."""

    seen = forms.CharField(widget=forms.HiddenInput, required=False)
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

        self._saved = {name: self.initial.get(name) for name in self.Meta.fields}
        self._now = seen_of(self._saved)
        self.initial["seen"] = self._now

    def is_current(self) -> bool:
        """False where the flight was saved anew since this form was opened."""
        return bool(self.cleaned_data["seen"] == self._now)

    def shown_anew(self) -> None:
        """Keep what is typed, and lay what is saved now beside it; sending it once more is meant."""
        self.data = {**dict(self.data.items()), "seen": self._now}
        for name in self.changed_data:
            if name in self._saved and name != "seen":
                saved = dict(getattr(self.fields[name], "choices", ())).get(self._saved[name], self._saved[name])
                self[name].help_text = f"saved meanwhile: {saved if saved not in (None, '') else 'nothing'}"
