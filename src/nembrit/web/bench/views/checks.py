"""Pages of a plane's safety checks: all of them, and one with its limits, readings and results."""

from django import forms
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench import checks
from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft


class LimitsForm(forms.Form):
    """The limits of one check."""

    def __init__(self, *args: object, check: checks.Check, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)  # type: ignore[arg-type]  # Django's own arguments
        for limit in check.limits:
            self.fields[limit.key] = forms.FloatField(
                label=limit.label, min_value=limit.low, max_value=limit.high, widget=forms.NumberInput(attrs={"step": "any"})
            )


class ReadingsForm(forms.Form):
    """Readings of one check without a log."""

    def __init__(self, *args: object, check: checks.Check, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)  # type: ignore[arg-type]  # Django's own arguments
        for one in checks.READINGS[check.key]:
            self.fields[one.key] = forms.FloatField(
                label=one.label, min_value=one.low, max_value=one.high, required=one.is_needed,
                widget=forms.NumberInput(attrs={"step": "any"}),
            )  # fmt: skip
        self.fields["note"] = forms.CharField(label="Note", max_length=300, required=False)


@require_safe
def checks_page(request: HttpRequest, craft_id: int) -> HttpResponse:
    """All safety checks of a plane."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    return render(request, "bench/checks.html", {"craft": craft, "board": checks.board_of(craft)})


@require_http_methods(["GET", "POST"])
def check_page(request: HttpRequest, craft_id: int, key: str) -> HttpResponse:
    """One check: limits before it is flown, its steps, readings by hand, and every result side by side."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    check = checks.check_of(key)
    if check is None:
        raise Http404
    line = checks.line_of(craft, check)
    is_limits, is_readings = "limits" in request.POST, "readings" in request.POST
    limits = LimitsForm(request.POST if is_limits else None, check=check, initial=dict(line.limits), prefix="limit")
    readings = ReadingsForm(request.POST if is_readings else None, check=check, prefix="read")
    form = limits if is_limits else readings
    if request.method == "POST" and form.is_valid():

        def make() -> str:
            values = dict(form.cleaned_data)
            if is_limits:
                checks.set_limits(craft, check, values)
                messages.success(request, "Saved. Checks from now on are judged by these limits; earlier ones keep their own.")
            else:
                note = str(values.pop("note", ""))
                checks.add_note(craft, check, {name: value for name, value in values.items() if value is not None}, note=note)
                messages.success(request, "The readings are saved and judged below.")
            return request.path

        try:
            return redirect(once(request, make))
        except CoreError as error:
            form.add_error(None, f"{str(error)[:1].upper()}{str(error)[1:]}.")
    context = {"craft": craft, "line": line, "check": check, "limits": limits, "readings": readings}
    return render(request, "bench/check.html", context, status=400 if request.method == "POST" else 200)
