from django import forms

from nembrit.web.flights.models import Flight


class FlightForm(forms.ModelForm):
    class Meta:
        model = Flight
        fields = ("configuration", "build_entry", "flown_at", "card_key", "pack", "wind_m_s", "conditions", "heat", "notes")
        labels = {
            "configuration": "Configuration flown",
            "build_entry": "Build",
            "flown_at": "When (UTC)",
            "card_key": "Card",
            "pack": "Pack",
            "wind_m_s": "Wind, m/s",
            "conditions": "Conditions",
            "heat": "Motors after landing",
            "notes": "Notes",
        }
        widgets = {"notes": forms.Textarea(attrs={"rows": 4})}

    def __init__(self, *args: object, cards: list[tuple[str, str]], **kwargs: object) -> None:
        super().__init__(*args, **kwargs)
        craft = self.instance.craft
        self.fields["configuration"].queryset = craft.configurations.all()
        self.fields["configuration"].required = False
        self.fields["build_entry"].queryset = craft.build_entries.all()
        self.fields["card_key"] = forms.ChoiceField(choices=[("", "no card"), *cards], required=False, label="Card")

    def clean_wind_m_s(self) -> float | None:
        wind_m_s = self.cleaned_data["wind_m_s"]
        if wind_m_s is not None and not 0 <= wind_m_s <= 40:
            raise forms.ValidationError(f"from 0 to 40 m/s, got {wind_m_s:g}")
        return wind_m_s
