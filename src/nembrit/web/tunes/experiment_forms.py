from typing import Any

from django import forms

from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_choices
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.experiments import DESIGN_CHOICES, Wanted
from nembrit.web.tunes.models import Arm, Experiment, Slip
from nembrit.web.tunes.services import MOST_FLIGHTS, metric_choices

_RATING = ("rating", "your rating from 1 to 5")


class ExperimentForm(forms.Form):
    """What a question is asked with."""

    question = forms.CharField(max_length=200, label="Question")
    configurations = forms.MultipleChoiceField(
        required=False,
        widget=forms.CheckboxSelectMultiple,
        label="Settings to compare; the first is the baseline",
    )
    words = forms.CharField(
        required=False, max_length=500, widget=forms.Textarea(attrs={"rows": 3}),
        label="Other variants, one per line (propellers, output rates)",
    )  # fmt: skip
    card_key = forms.ChoiceField(label="Card")
    metric = forms.ChoiceField(label="Judged by")
    direction = forms.ChoiceField(choices=Slip.Direction.choices, label="better is", initial="higher")
    design = forms.ChoiceField(choices=DESIGN_CHOICES, label="Order")
    repetitions = forms.IntegerField(min_value=4, max_value=MOST_FLIGHTS, initial=4, label="Flights per variant")
    packs = forms.CharField(max_length=300, required=False, label="Packs, separated by commas; used equally")
    is_blind = forms.BooleanField(required=False, initial=True, label="Blind: settings are loaded as coded files")

    def __init__(self, *args: Any, craft: Craft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._known = {str(one.pk): one for one in craft.configurations.all()}
        choices = {
            "configurations": [(key, f"{one} {one.note}".strip()) for key, one in self._known.items()],
            "card_key": card_choices(craft.kind),
            "metric": [_RATING, *metric_choices(craft)],
        }
        for name, known in choices.items():
            field = self.fields[name]
            assert isinstance(field, forms.ChoiceField)
            field.choices = known

    def clean(self) -> dict[str, Any]:
        data: dict[str, Any] = super().clean() or {}
        data["words"] = [line.strip() for line in data.get("words", "").splitlines() if line.strip()]
        data["packs"] = list(dict.fromkeys(one.strip() for one in data.get("packs", "").split(",") if one.strip()))
        if len(data.get("configurations", [])) + len(data["words"]) < 2:
            self.add_error("configurations", "choose at least two variants")
        return data

    def wanted(self) -> Wanted:
        data = dict(self.cleaned_data)
        chosen = sorted((self._known[key] for key in data.pop("configurations")), key=lambda one: one.number)
        return Wanted(configurations=chosen, **data)


class RateForm(forms.Form):
    """How one turn felt, before anything is known of it."""

    rating = forms.TypedChoiceField(
        coerce=int, empty_value=None, required=False, label="How did it fly?", widget=forms.RadioSelect,
        choices=[(n, str(n)) for n in range(1, 6)],
    )  # fmt: skip
    guess = forms.ModelChoiceField(
        queryset=Arm.objects.none(), required=False, empty_label="no idea", label="Which variant was it?"
    )
    ended = forms.ChoiceField(choices=Flight.Ended.choices, required=False, label="How it ended")
    note = forms.CharField(max_length=300, required=False, label="Note")

    def __init__(self, *args: Any, experiment: Experiment, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        guess = self.fields["guess"]
        assert isinstance(guess, forms.ModelChoiceField)
        guess.queryset = experiment.arms.all()

    def clean(self) -> dict[str, Any]:
        data: dict[str, Any] = super().clean() or {}
        if data.get("rating") is None and not data.get("ended"):
            self.add_error("rating", "give a rating, or say that it was aborted")
        return data
