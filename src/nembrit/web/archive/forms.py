from typing import Any

from django import forms

from nembrit.web.hangar.models import Craft


class GiveForm(forms.Form):
    """What goes into an archive."""

    craft = forms.ModelChoiceField(
        queryset=Craft.objects.none(), required=False, empty_label="the whole workshop", label="Archive of"
    )
    with_places = forms.BooleanField(required=False, initial=True, label="with positions and original files")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        craft = self.fields["craft"]
        assert isinstance(craft, forms.ModelChoiceField)
        craft.queryset = Craft.objects.all()


class TakeForm(forms.Form):
    file = forms.FileField(label="An archive (.zip)")
