from collections.abc import Mapping, Sequence
from typing import Any

from django import forms

from nembrit.web.common.fields import NumberField
from nembrit.web.common.seen import SeenForm, seen_of
from nembrit.web.hangar import services
from nembrit.web.hangar.models import Craft

_LIMITS = {"propeller_diameter_in": (1, 40), "propeller_pitch_in": (0.5, 40), "propeller_blades": (2, 8), "cells": (1, 14),
           "mass_g": (20, 25_000)}  # fmt: skip
_LABELS = {
    "name": "Name",
    "kind": "Kind",
    "about": "What it is for",
    "propeller_diameter_in": "Propeller diameter, inches",
    "propeller_pitch_in": "Propeller pitch, inches",
    "propeller_blades": "Blades",
    "cells": "Cells",
    "mass_g": "Mass ready to fly, grams",
}


def _within_limits(form: "CraftForm | CraftEditForm", data: dict[str, Any]) -> None:
    for field, (low, high) in _LIMITS.items():
        value = data.get(field)
        if value is not None and not low <= value <= high:
            form.add_error(field, f"from {low} to {high}, got {value:g}")


class CraftForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    layout = forms.ChoiceField(
        choices=[
            ("Multirotors, by their motors", services.LAYOUT_CHOICES),
            ("Model aeroplanes, by control surfaces", [(key, label) for key, (label, _) in services.PLANES.items()]),
        ],
        label="Motors or control surfaces",
        initial="quad",
    )

    class Meta:
        model = Craft
        fields = ("name", "layout", "about", "propeller_diameter_in", "propeller_pitch_in", "propeller_blades",
                  "cells", "chemistry", "mass_g")  # fmt: skip
        labels = _LABELS

    def clean(self) -> dict[str, object]:
        data = super().clean() or {}
        _within_limits(self, data)
        is_plane = data.get("layout") in services.PLANES
        return data | {"kind": Craft.Kind.FIXED_WING if is_plane else Craft.Kind.MULTIROTOR}


SERVOS = range(1, 9)
_ROLES = [
    ("", "none or unknown"),
    *((role, role.replace("_", " ").replace("v tail", "V-tail")) for role in services.SURFACE_ROLES),
]
_DIRECTIONS = [("", "found from the log"), ("1", "longer pulse = more"), ("-1", "longer pulse = less")]


class SurfacesForm(forms.Form):
    """What each servo of a plane moves."""

    def __init__(self, data: Mapping[str, Any] | None = None, *, surfaces: Sequence[Any] = ()) -> None:
        super().__init__(data)
        known = {one.servo: one for one in surfaces}
        for number in SERVOS:
            own = known.get(number)
            self.fields[f"role-{number}"] = forms.ChoiceField(
                choices=_ROLES, required=False, initial=own.role if own else "", label=f"Servo {number} moves"
            )
            self.fields[f"direction-{number}"] = forms.ChoiceField(
                choices=_DIRECTIONS, required=False, initial=str(own.direction) if own and own.direction else "",
                label=f"Direction of servo {number}",
            )  # fmt: skip
            self.fields[f"centre-{number}"] = NumberField(
                low=500,
                high=2500,
                required=False,
                initial=f"{own.centre_us:g}" if own else "1500",
                label=f"Centre of servo {number}, µs",
            )
            self.fields[f"throw-{number}"] = NumberField(
                low=50,
                high=1000,
                required=False,
                initial=f"{own.throw_us:g}" if own else "500",
                label=f"Throw of servo {number}, µs",
            )

    def rows(self) -> list[tuple[int, list[forms.BoundField]]]:
        return [(number, [self[f"{name}-{number}"] for name in ("role", "direction", "centre", "throw")]) for number in SERVOS]

    def clean(self) -> dict[str, Any]:
        data: dict[str, Any] = super().clean() or {}
        roles = [role for number in SERVOS if (role := data.get(f"role-{number}"))]
        for left, right in (("v_tail_left", "v_tail_right"), ("elevon_left", "elevon_right")):
            if roles.count(left) > 1 or roles.count(right) > 1 or (left in roles) != (right in roles):
                self.add_error(None, f"each pair has one {left.replace('_', ' ')} and one {right.replace('_', ' ')}")
        return data

    def surfaces(self) -> list[dict[str, Any]]:
        """One a servo that moves something."""
        data = self.cleaned_data
        return [
            {
                "servo": number,
                "role": data[f"role-{number}"],
                "direction": int(data[f"direction-{number}"] or 0) or None,
                "centre_us": data[f"centre-{number}"] or 1500.0,
                "throw_us": data[f"throw-{number}"] or 500.0,
            }
            for number in SERVOS
            if data[f"role-{number}"]
        ]


class CraftEditForm(SeenForm):
    """What may change of a craft; its kind and motors stay, since its flights rest on them."""

    class Meta:
        model = Craft
        fields = (
            "name",
            "about",
            "propeller_diameter_in",
            "propeller_pitch_in",
            "propeller_blades",
            "cells",
            "chemistry",
            "mass_g",
        )
        labels = _LABELS

    def clean(self) -> dict[str, object]:
        data = super().clean() or {}
        _within_limits(self, data)
        return data


class MotorsForm(forms.Form):
    """Which motor sits at which place, and which way it turns; places come clockwise from the right of the nose."""

    order_seen = forms.CharField(widget=forms.HiddenInput, required=False)
    TURNS = (("clockwise", "clockwise"), ("anticlockwise", "anticlockwise"))

    def __init__(self, data: Mapping[str, Any] | None = None, *, places: Sequence[services.Place]) -> None:
        super().__init__(data)
        self.places = places
        self.now = seen_of([(place.name, place.number, place.turns) for place in places])
        self.fields["order_seen"].initial = self.now
        numbers = [(n, f"motor {n}") for n in range(1, len(places) + 1)]
        for k, place in enumerate(places):
            self.fields[f"number-{k}"] = forms.TypedChoiceField(
                choices=numbers, coerce=int, initial=place.number, label=place.name.capitalize()
            )
            if place.turns:
                self.fields[f"turns-{k}"] = forms.ChoiceField(
                    choices=self.TURNS, initial=place.turns, label=f"{place.name.capitalize()} turns"
                )

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        if data.get("order_seen") != self.now:
            raise forms.ValidationError("the motors changed since this page was opened; check them again")
        return data

    @property
    def numbers(self) -> list[int]:
        return [self.cleaned_data[f"number-{k}"] for k in range(len(self.places))]

    @property
    def clockwise(self) -> list[bool]:
        return [self.cleaned_data.get(f"turns-{k}") == "clockwise" for k in range(len(self.places))]

    def rows(self) -> list[dict[str, Any]]:
        """Every place with its fields and where it is drawn."""
        return [
            {
                "place": place, "number": self[f"number-{k}"], "turns": self[f"turns-{k}"] if place.turns else None,
                "x": round(46 * place.right + (9 if "lower" in place.name else 0), 1),
                "y": round(-46 * place.ahead + (9 if "lower" in place.name else 0), 1),
            }
            for k, place in enumerate(self.places)
        ]  # fmt: skip


class ConfigurationForm(forms.Form):
    text = forms.CharField(widget=forms.Textarea, label="Settings, one “name = value” a line", max_length=400_000, strip=False)
    note = forms.CharField(max_length=200, required=False, label="Note")
    shown = forms.CharField(widget=forms.HiddenInput, required=False)  # a mark of the text that was shown as understood
    without_doubtful = forms.BooleanField(required=False, label="Leave the unclear lines out")

    def mark(self) -> str:
        return seen_of(self.cleaned_data["text"].splitlines())

    def is_shown(self) -> bool:
        """Whether this very text was shown as it was understood."""
        return bool(self.cleaned_data["shown"] == self.mark())


class BuildForm(forms.Form):
    part = forms.CharField(max_length=80, label="Part")
    text = forms.CharField(max_length=300, required=False, label="Changes")


class NameMapForm(forms.Form):
    """What each setting means. Every field carries its setting's name, so that a list in another order moves nothing."""

    seen = forms.CharField(widget=forms.HiddenInput, required=False)

    def __init__(self, data: Mapping[str, Any] | None = None, *, settings: list[services.NamedSetting]) -> None:
        super().__init__(data)
        self._settings = settings
        self.now = seen_of(sorted((setting.name, setting.meaning, setting.scale) for setting in settings))
        self.fields["seen"].initial = self.now
        choices = [("", "no meaning given"), *services.MEANINGS.items()]
        for setting in settings:
            self.fields[f"meaning-{setting.name}"] = forms.ChoiceField(
                choices=choices, required=False, initial=setting.meaning, label=f"Meaning of {setting.name}",
                widget=forms.Select(attrs={"aria-label": f"Meaning of {setting.name}"}),
            )  # fmt: skip
            self.fields[f"scale-{setting.name}"] = NumberField(
                required=False, initial=setting.scale, label=f"Scale of {setting.name}",
                widget=forms.TextInput(attrs={"aria-label": f"Scale of {setting.name}", "inputmode": "decimal"}),
            )  # fmt: skip

    def is_current(self) -> bool:
        """False where the settings or their meanings were saved anew since this form was opened."""
        return bool(self.cleaned_data["seen"] == self.now)

    def meanings(self) -> dict[str, tuple[str, float | None]]:
        return {
            setting.name: (self.cleaned_data[f"meaning-{setting.name}"], self.cleaned_data[f"scale-{setting.name}"])
            for setting in self._settings
        }

    def rows(self) -> list[dict[str, object]]:
        """One row a setting, with what is saved now where the form says otherwise."""
        found = []
        for setting in self._settings:
            meaning, scale = self[f"meaning-{setting.name}"], self[f"scale-{setting.name}"]
            typed = (meaning.value() or "", str(scale.value() if scale.value() is not None else ""))
            saved = (setting.meaning, "" if setting.scale is None else str(setting.scale))
            found.append({"setting": setting, "meaning": meaning, "scale": scale, "differs": self.is_bound and typed != saved})
        return found

    def shown_anew(self) -> None:
        """Show what is typed against what is saved now; sending it once more is meant."""
        self.data = {**dict(self.data.items()), "seen": self.now}
