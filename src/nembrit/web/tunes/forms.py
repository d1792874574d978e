from django import forms

from nembrit.web.flights.services import CARD_CHOICES
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


class DecisionForm(forms.Form):
    outcome = forms.ChoiceField(choices=[("keep", "keep"), ("undo", "undo")])
    note = forms.CharField(max_length=300, required=False)


class TuneForm(forms.ModelForm):
    class Meta:
        model = Tune
        fields = ("name", "route", "stage")
