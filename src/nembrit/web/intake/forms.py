from typing import Any

from django import forms

from nembrit.web.flights.services import AS_FLOWN, card_choices
from nembrit.web.hangar.models import Configuration, Craft


class AttachForm(forms.Form):
    """What all files of one upload have in common; the files come beside it."""

    configuration = forms.ModelChoiceField(
        queryset=Configuration.objects.none(), label="Flown with", required=False, empty_label="not known"
    )
    card_key = forms.ChoiceField(
        choices=lambda: [(AS_FLOWN, "found from its manoeuvres"), ("", "no card"), *card_choices()],
        required=False,
        initial=AS_FLOWN,
        label="Card",
    )
    pack = forms.CharField(max_length=60, required=False, label="Pack")

    def __init__(self, *args: Any, craft: Craft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        configurations = self.fields["configuration"]
        assert isinstance(configurations, forms.ModelChoiceField)
        configurations.queryset = craft.configurations.all()
        self.fields["configuration"].initial = craft.configurations.first()
