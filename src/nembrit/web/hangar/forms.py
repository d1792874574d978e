from django import forms

from nembrit.web.hangar import services
from nembrit.web.hangar.models import Craft


class CraftForm(forms.ModelForm):
    layout = forms.ChoiceField(
        choices=[*services.LAYOUT_CHOICES, ("", "no motors that turn it (model aeroplane)")],
        required=False,
        label="Motors",
        initial="quad",
    )

    class Meta:
        model = Craft
        fields = ("name", "kind", "layout", "about", "propeller_diameter_in", "propeller_pitch_in", "propeller_blades",
                  "cells", "chemistry", "mass_g")  # fmt: skip
        labels = {
            "name": "Name",
            "kind": "Kind",
            "about": "What it is for",
            "propeller_diameter_in": "Propeller diameter, inches",
            "propeller_pitch_in": "Propeller pitch, inches",
            "propeller_blades": "Blades",
            "cells": "Cells",
            "mass_g": "Mass ready to fly, grams",
        }

    def clean(self) -> dict[str, object]:
        data = super().clean() or {}
        limits = {"propeller_diameter_in": (1, 40), "propeller_pitch_in": (0.5, 40), "propeller_blades": (2, 8), "cells": (1, 14),
                  "mass_g": (20, 25_000)}  # fmt: skip
        for field, (low, high) in limits.items():
            value = data.get(field)
            if value is not None and not low <= value <= high:
                self.add_error(field, f"from {low} to {high}, got {value:g}")
        if data.get("kind") == Craft.Kind.MULTIROTOR and not data.get("layout"):
            self.add_error("layout", "a multirotor needs its motors")
        return data


class ConfigurationForm(forms.Form):
    text = forms.CharField(widget=forms.Textarea, label="Settings, one “name = value” a line", max_length=400_000, strip=False)
    note = forms.CharField(max_length=200, required=False, label="Note")


class BuildForm(forms.Form):
    part = forms.CharField(max_length=80, label="Part")
    text = forms.CharField(max_length=300, required=False, label="What was done")
