from typing import Any

from django import forms

from nembrit.web.ground.models import RULE_FIELDS, Obstacle, Profile, ReturnRule
from nembrit.web.ground.services import CAREFUL, ENDINGS, WAYS


class ObstacleForm(forms.Form):
    """Something that stands in the way, by its places."""

    name = forms.CharField(max_length=80, label="What it is")
    height_m = forms.FloatField(min_value=0.1, max_value=500, label="Its top above the ground at home, m")
    kind = forms.ChoiceField(choices=Obstacle.Kind.choices, label="It is")
    places = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}), label="Places",
        help_text="latitude, longitude, one per line; or tap on a flight’s map",
    )  # fmt: skip

    def clean_places(self) -> list[tuple[float, float]]:
        found = []
        for number, line in enumerate(filter(str.strip, self.cleaned_data["places"].splitlines()), start=1):
            try:
                latitude, longitude = (float(part) for part in line.replace(";", ",").split(",")[:2])
            except ValueError:
                raise forms.ValidationError(f"Line {number}: expected “51.501, -1.502”, found “{line.strip()[:40]}”.") from None
            found.append((longitude, latitude))
        return found


class RuleForm(forms.ModelForm):  # type: ignore[type-arg]  # Django’s forms take no parameter
    """What a return must do."""

    ends = forms.ChoiceField(choices=ENDINGS, label="Ends by")
    turn_way = forms.ChoiceField(choices=WAYS, label="Turns")

    class Meta:
        model = ReturnRule
        fields = RULE_FIELDS

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in self.fields:
            if self.instance.pk is None and name not in self.initial:
                self.initial[name] = getattr(CAREFUL, name)


class ProfileForm(forms.Form):
    """A file of ground heights."""

    file = forms.FileField(label="File: distance and height in metres, or a text grid in degrees")
    datum = forms.CharField(max_length=80, required=False, label="Heights above (datum)", help_text="sea level, or an ellipsoid")
    start = forms.CharField(max_length=60, required=False, label="Grid only: your place", help_text="latitude, longitude")
    end = forms.CharField(max_length=60, required=False, label="Grid only: the farthest place")

    def clean_start(self) -> tuple[float, float] | None:
        return _place(self.cleaned_data["start"])

    def clean_end(self) -> tuple[float, float] | None:
        return _place(self.cleaned_data["end"])


def _place(text: str) -> tuple[float, float] | None:
    if not text.strip():
        return None
    try:
        latitude, longitude = (float(part) for part in text.split(","))
    except ValueError:
        raise forms.ValidationError("Expected latitude and longitude, such as “51.501, -1.502”.") from None
    return latitude, longitude


class SightForm(forms.Form):
    """From where, how high and on which frequency."""

    profile = forms.ModelChoiceField(queryset=Profile.objects.all(), empty_label=None, label="Over")
    antenna_m = forms.FloatField(min_value=0, max_value=500, initial=1.5, label="Antenna above the ground, m")
    frequency_mhz = forms.FloatField(min_value=10, max_value=100_000, initial=2400, label="Frequency, MHz")
    height_m = forms.FloatField(min_value=0, max_value=2000, initial=60, label="You fly at, m above the antenna’s ground")
