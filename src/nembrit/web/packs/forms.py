from django import forms

from nembrit.web.common.fields import NumberField
from nembrit.web.common.seen import SeenForm
from nembrit.web.packs.models import Pack, PackNote


class PackForm(SeenForm):
    """A pack as it stands on its label."""

    cells = forms.IntegerField(min_value=1, max_value=14, initial=4, label="Cells")
    capacity_mah = NumberField(low=50, high=100_000, initial=1500, label="Capacity, mAh")
    cycles_before = forms.IntegerField(min_value=0, max_value=5000, initial=0, label="Charges so far")

    class Meta:
        model = Pack
        fields = ("name", "chemistry", "cells", "capacity_mah", "cycles_before", "note")
        labels = {"name": "Name, as it is written on it", "chemistry": "Chemistry", "note": "Note"}

    def clean_name(self) -> str:
        """Flights name a pack with large or small letters, as typed at the field."""
        name: str = self.cleaned_data["name"]
        if Pack.objects.filter(name__iexact=name).exclude(pk=self.instance.pk).exists():
            raise forms.ValidationError(f"there is a pack “{name}” already")
        return name


class PackNoteForm(forms.Form):
    """Changes to a pack, or measured on it."""

    kind = forms.ChoiceField(choices=PackNote.Kind.choices, label="What")
    rest_v = NumberField(low=0.5, high=70, required=False, label="At rest, V (whole pack)")
    loaded_v = NumberField(low=0.5, high=70, required=False, label="Under load, V (whole pack)")
    text = forms.CharField(max_length=200, required=False, label="Note")

    def clean(self) -> dict[str, object]:
        data = super().clean() or {}
        nothing = data.get("rest_v") is None and data.get("loaded_v") is None
        if data.get("kind") == PackNote.Kind.MEASURED and nothing and not self.errors:
            self.add_error("rest_v", "a measurement needs a voltage")
        return data
