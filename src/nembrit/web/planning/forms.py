from typing import Any

from django import forms

from nembrit.web.common.fields import MomentField
from nembrit.web.flights.services import card_choices
from nembrit.web.hangar.models import Craft
from nembrit.web.planning.models import Session


class SessionForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    """When to go out, and for what."""

    starts_at = MomentField(label="When", widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"))
    minutes = forms.IntegerField(min_value=10, max_value=1440, initial=90, label="Minutes")

    class Meta:
        model = Session
        fields = ("what", "starts_at", "minutes", "place", "card_key", "note")
        labels = {"what": "What for", "place": "Where", "note": "Note"}

    def __init__(self, *args: Any, craft: Craft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["card_key"] = forms.ChoiceField(
            choices=[("", "no card yet"), *card_choices(craft.kind)], required=False, label="Card"
        )
