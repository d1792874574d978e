from collections.abc import Mapping
from typing import Any

from django import forms

from nembrit.web.common.fields import MOST_ID
from nembrit.web.flights.services import CARD_CHOICES
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import NamedSetting
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.services import METRIC_CHOICES, SlipText


class SlipForm(forms.Form):
    """What is written on a slip; the settings of its group come beside it."""

    title = forms.CharField(max_length=120, label="The change in a few words")
    why = forms.CharField(widget=forms.Textarea(attrs={"rows": 3}), required=False, max_length=2000, label="Why: the evidence")
    expect = forms.CharField(max_length=300, required=False, label="Expect")
    risk = forms.CharField(max_length=300, required=False, label="Risk: what could go wrong")
    primary_metric = forms.ChoiceField(choices=METRIC_CHOICES, label="Judged by")
    direction = forms.ChoiceField(choices=Slip.Direction.choices, label="which should become")
    card_key = forms.ChoiceField(choices=[("", "any card"), *CARD_CHOICES], required=False, label="Flown as")
    despite = forms.CharField(
        max_length=300, required=False, label="Why change settings although mechanics are at fault (kept with the slip)"
    )
    part = forms.CharField(max_length=80, required=False, label="Part")

    def text(self) -> SlipText:
        return SlipText(**{name: self.cleaned_data[name] for name in SlipText.__dataclass_fields__})


class ValuesForm(forms.Form):
    """New values of one group. Fields carry their setting's name, and the form the revision that it was shown from."""

    revision = forms.IntegerField(widget=forms.HiddenInput, min_value=1, max_value=MOST_ID)

    def __init__(self, data: Mapping[str, Any] | None = None, *, settings: list[NamedSetting], latest: Configuration) -> None:
        super().__init__(data)
        self._settings = settings
        self.fields["revision"].initial = latest.pk
        for setting in settings:
            self.fields[f"value-{setting.name}"] = forms.CharField(
                max_length=200, initial=setting.value, label=setting.name, help_text=setting.explain
            )

    def values(self) -> dict[str, str]:
        return {setting.name: self.cleaned_data[f"value-{setting.name}"] for setting in self._settings}

    def rows(self) -> list[tuple[NamedSetting, forms.BoundField]]:
        return [(setting, self[f"value-{setting.name}"]) for setting in self._settings]

    def shown_anew(self, latest: Configuration) -> None:
        """Show what is typed against the latest revision; sending it once more is meant."""
        self.data = {**dict(self.data.items()), "revision": str(latest.pk)}


class DecisionForm(forms.Form):
    outcome = forms.ChoiceField(choices=[("keep", "keep"), ("undo", "undo")])
    note = forms.CharField(max_length=300, required=False)


class TuneForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    class Meta:
        model = Tune
        fields = ("name", "route", "stage")
