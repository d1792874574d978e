"""Forms that must not overwrite what another tab saved since they were opened."""

import hashlib
import json
from typing import Any

from django import forms


def seen_of(values: Any) -> str:
    """A short mark of what a form shows; it goes along hidden, and is compared before anything is written."""
    text = json.dumps(values, sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


class SeenForm(forms.ModelForm):  # type: ignore[type-arg]  # Django's forms take no parameter
    """A form of one row. A second tab that saves an older state is told, with both texts."""

    seen = forms.CharField(widget=forms.HiddenInput, required=False)
    told = (
        "This was saved in another tab since the page was opened. Nothing was overwritten: yours is in the fields, the other "
        "below. Put together what should stay, then save it"
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._saved = {name: self.initial.get(name) for name in self._meta.fields or ()}
        self._now = seen_of(self._saved)
        self.initial["seen"] = self._now

    def saved(self) -> bool:
        """Save, unless the row was saved anew since this form was opened: then show both."""
        if self.cleaned_data["seen"] == self._now:
            self.save()
            return True
        self.add_error(None, self.told)
        self.data = {**dict(self.data.items()), "seen": self._now}
        for name in self.changed_data:
            if name in self._saved and name != "seen":
                there = dict(getattr(self.fields[name], "choices", ())).get(self._saved[name], self._saved[name])
                self[name].help_text = f"saved meanwhile: {there if there not in (None, '') else 'nothing'}"
        return False
