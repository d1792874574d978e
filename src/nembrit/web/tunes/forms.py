from collections.abc import Mapping
from typing import Any

from django import forms

from nembrit.core.errors import InputError
from nembrit.web.common.fields import MOST_ID, NumberField
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import AS_FLOWN, card_choices
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import NamedSetting
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.services import MOST_FLIGHTS, ORDER_CHOICES, Limit, SlipText, metric_choices

LIMIT_PLACES = (1, 2, 3)


class SlipForm(forms.Form):
    """What is written on a slip; the settings of its group come beside it."""

    title = forms.CharField(max_length=120, required=False, label="Title", help_text="empty: what changes")
    why = forms.CharField(widget=forms.Textarea(attrs={"rows": 3}), required=False, max_length=2000, label="Reason")
    expect = forms.CharField(max_length=300, required=False, label="Expect")
    risk = forms.CharField(max_length=300, required=False, label="Risk: what could go wrong")
    primary_metric = forms.ChoiceField(label="Judged by")
    direction = forms.ChoiceField(choices=Slip.Direction.choices, label="Should become")
    card_key = forms.ChoiceField(required=False, label="Card")
    despite = forms.CharField(
        max_length=300, required=False, label="Reason to change settings despite a mechanical fault (saved)"
    )
    beyond = forms.CharField(max_length=300, required=False, label="Reason to go beyond the limit (saved)")
    part = forms.CharField(max_length=80, required=False, label="Part")
    confounded = forms.CharField(max_length=300, required=False, label="Reason to change two groups at once (saved)")
    flights_a_side = forms.IntegerField(min_value=1, max_value=MOST_FLIGHTS, initial=4, label="Flights per side")
    order = forms.ChoiceField(choices=ORDER_CHOICES, initial="free", label="Order")

    def __init__(self, *args: Any, craft: Craft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        known = metric_choices(craft)
        for name, choices in (("primary_metric", known), ("card_key", [("", "any card"), *card_choices(craft.kind)])):
            field = self.fields[name]
            assert isinstance(field, forms.ChoiceField)
            field.choices = choices
        for place in LIMIT_PLACES:
            self.fields[f"limit_metric_{place}"] = forms.ChoiceField(
                choices=[("", "nothing"), *known], required=False, label="Must not get worse"
            )
            self.fields[f"limit_most_{place}"] = NumberField(
                low=0.1, high=1000, required=False, label="by more than, % or points"
            )

    def clean(self) -> dict[str, Any]:
        """Every harm limit needs both its parts, and the whole must be a plan that can be judged."""
        data: dict[str, Any] = super().clean() or {}
        limits = []
        for place in LIMIT_PLACES:
            metric, most = data.get(f"limit_metric_{place}"), data.get(f"limit_most_{place}")
            if metric and most is None and f"limit_most_{place}" not in self.errors:
                self.add_error(f"limit_most_{place}", "say by how much at most")
            elif metric and most and metric != data.get("primary_metric"):  # proposed before another metric was chosen to judge
                limits.append(Limit(metric=metric, most=most / 100))
        data["limits"] = tuple(limits)
        if not self.errors:
            try:
                self._text(data).plan  # noqa: B018 - refused here, beside the other fields
            except InputError as error:
                self.add_error(None, str(error))
        return data

    @property
    def has_folded_errors(self) -> bool:
        """Whether a field that the page folds away has to be looked at."""
        shown = {"why", "primary_metric", "direction", "despite", "beyond", "confounded", "part", "__all__"}
        return self.is_bound and any(name not in shown for name in self.errors)

    def limit_rows(self) -> list[tuple[forms.BoundField, forms.BoundField]]:
        return [(self[f"limit_metric_{place}"], self[f"limit_most_{place}"]) for place in LIMIT_PLACES]

    def text(self) -> SlipText:
        return self._text(self.cleaned_data)

    @staticmethod
    def _text(data: dict[str, Any]) -> SlipText:
        return SlipText(**{name: data[name] for name in SlipText.__dataclass_fields__})


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

    def changes(self) -> list[tuple[str, str, str]]:
        """Name, present value and new value of every setting that changes."""
        new = self.values()
        return [(one.name, one.value, new[one.name]) for one in self._settings if new[one.name] != one.value]

    def rows(self) -> list[tuple[NamedSetting, forms.BoundField]]:
        return [(setting, self[f"value-{setting.name}"]) for setting in self._settings]

    def fill(self, values: Mapping[str, str]) -> None:
        """Start with proposed values; what is now stands beside each."""
        for name, value in values.items():
            if (field := self.fields.get(f"value-{name}")) is not None:
                field.initial = value

    def shown_anew(self, latest: Configuration) -> None:
        """Show what is typed against the latest revision; sending it once more is meant."""
        self.data = {**dict(self.data.items()), "revision": str(latest.pk)}


class DecisionForm(forms.Form):
    outcome = forms.ChoiceField(choices=[("keep", "keep"), ("undo", "undo")])
    note = forms.CharField(max_length=300, required=False)


class ProvokeForm(forms.Form):
    """Under which conditions an old fault must stay away."""

    fault = forms.CharField(max_length=200, label="The fault, in words")
    lowest_cell_v = NumberField(low=2, high=4.3, required=False, label="Pack down to, V per cell under load")
    throttle_pct = NumberField(low=30, high=100, required=False, label="Throttle up to, %")
    highest_temperature_c = NumberField(low=-20, high=120, required=False, label="Board as warm as, °C")

    def condition_fields(self) -> list[forms.BoundField]:
        return [self[name] for name in self.fields if name != "fault"]

    def conditions(self) -> dict[str, float | None]:
        data = self.cleaned_data
        throttle = data["throttle_pct"]
        return {
            "lowest_cell_v": data["lowest_cell_v"], "highest_throttle_ratio": None if throttle is None else throttle / 100,
            "highest_temperature_c": data["highest_temperature_c"],
        }  # fmt: skip

    @staticmethod
    def start(conditions: Mapping[str, float], fault: str) -> dict[str, Any]:
        """What the form shows for conditions in core units."""
        found: dict[str, Any] = {name: f"{value:g}" for name, value in conditions.items() if name != "highest_throttle_ratio"}
        if "highest_throttle_ratio" in conditions:
            found["throttle_pct"] = f"{100 * conditions['highest_throttle_ratio']:g}"
        return found | {"fault": fault}


class AnswerForm(forms.Form):
    """What a tuner says about one flight of a trial."""

    use = forms.ChoiceField(choices=[("", "by the rule"), ("in", "use it"), ("out", "leave it out")], required=False)
    why = forms.CharField(max_length=200, required=False, label="Why")


UNCHANGED = "unchanged"


class ManyFlightsForm(forms.Form):
    """What is noted on all the chosen flights; what stays unchanged is not touched."""

    flights = forms.MultipleChoiceField(error_messages={"required": "Choose at least one flight."})
    card_key = forms.ChoiceField(label="Card", initial=UNCHANGED)
    configuration = forms.ChoiceField(label="Flown with", initial=UNCHANGED)
    build_entry = forms.ChoiceField(label="Build", initial=UNCHANGED)

    def __init__(self, data: Any = None, *, craft: Craft, flights: list[Flight]) -> None:
        super().__init__(data)
        self._flights = {str(flight.pk): flight for flight in flights}
        as_it_is = [(UNCHANGED, "as it is")]
        choices = {
            "flights": [(key, str(flight)) for key, flight in self._flights.items()],
            "card_key": [*as_it_is, (AS_FLOWN, "found from the manoeuvres"), ("", "no card"), *card_choices(craft.kind)],
            "configuration": as_it_is + [(str(one.pk), str(one)) for one in craft.configurations.all()],
            "build_entry": as_it_is + [(str(one.pk), f"{one}, {one.made_at:%d %b %Y}") for one in craft.build_entries.all()],
        }
        for name, known in choices.items():
            field = self.fields[name]
            assert isinstance(field, forms.ChoiceField)
            field.choices = known
            field.required = name == "flights"

    def chosen(self) -> list[Flight]:
        return [self._flights[key] for key in self.cleaned_data["flights"]]

    def noted(self) -> dict[str, str]:
        """What changes: the card's key, and row numbers of settings and build."""
        names = {"card_key": "card_key", "configuration": "configuration_id", "build_entry": "build_entry_id"}
        given = {name: self.cleaned_data[name] for name in names if name in self.data}
        found = {names[name]: value for name, value in given.items() if value != UNCHANGED}
        return {column: value for column, value in found.items() if value or column == "card_key"}


class ExtendForm(forms.Form):
    total = forms.IntegerField(min_value=5, max_value=MOST_FLIGHTS, label="Flights per side, in total")


class TuneForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    class Meta:
        model = Tune
        fields = ("name", "route", "stage", "state")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["state"].required = False

        stage = self.fields["stage"]
        assert isinstance(stage, forms.ChoiceField)
        if self.instance.stage != Tune.Stage.LOCKED:  # that is gone to by locking it in
            stage.choices = [(key, label) for key, label in Tune.Stage.choices if key != Tune.Stage.LOCKED]

    def clean_state(self) -> str:
        """What is not said stays as it is."""
        return str(self.cleaned_data["state"] or self.instance.state)


class NewTuneForm(forms.Form):
    """What a next tune of a craft begins with."""

    name = forms.CharField(max_length=60, label="Name")
    route = forms.ChoiceField(choices=Tune.Route.choices, label="Route")


class RouteForm(forms.Form):
    """The four questions of choosing a route."""

    _KNOWN = [("yes", "yes"), ("no", "no"), ("unknown", "I don’t know")]

    flyable = forms.ChoiceField(choices=_KNOWN, label="Can the craft be flown safely?")
    logger = forms.ChoiceField(choices=_KNOWN, label="Does it log gyro and set-point?")
    automatic = forms.ChoiceField(choices=_KNOWN, label="Can its controller tune itself?")
    n_tests = forms.IntegerField(min_value=0, max_value=500, label="Half-minute tests that your packs carry")
    fine = forms.BooleanField(required=False, label="Smaller steps: finer, but more flights")


class RunForm(forms.Form):
    """One run of an automatic tune, as the controller shows its settings afterwards."""

    text = forms.CharField(
        max_length=200_000,
        label="Settings after the run, one on each line",
        widget=forms.Textarea(attrs={"rows": 5, "spellcheck": "false"}),
    )
    minutes = forms.FloatField(min_value=0.5, max_value=60, required=False, label="How long it took, minutes")
