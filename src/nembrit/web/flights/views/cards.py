"""Flight cards: the list, one to read or print, and composing one's own."""

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.once import once
from nembrit.web.flights import composing, services
from nembrit.web.flights.forms import CardForm
from nembrit.web.flights.models import OwnCard
from nembrit.web.hangar.models import Craft


@require_safe
def card_list(request: HttpRequest) -> HttpResponse:
    """Every card, by kind of craft; one's own beside those that ship."""
    context = {"kinds": [(label, services.cards(kind)) for kind, label in Craft.Kind.choices], "own": services.own_cards()}
    return render(request, "flights/card_list.html", context)


@require_safe
def card(request: HttpRequest, key: str) -> HttpResponse:
    """One card, to read at the field or to print on one page."""
    found = services.card_of(key)
    if found is None:
        raise Http404
    return render(request, "flights/card.html", {"card": found, "crafts": Craft.objects.active()})


@require_http_methods(["GET", "POST"])
def compose(request: HttpRequest) -> HttpResponse:
    """Choose manoeuvres by stage and question; the card puts them in order, easy to hard, close and low first."""
    data = request.POST if request.method == "POST" else request.GET
    kind = data.get("kind", "") if data.get("kind", "") in Craft.Kind.values else Craft.Kind.MULTIROTOR
    stage = data.get("stage", "") if data.get("stage", "") in composing.STAGES else ""
    question = data.get("question", "") if data.get("question", "") in composing.QUESTIONS else ""
    chosen = data.getlist("step")
    form = CardForm(request.POST if request.method == "POST" else None)
    if request.method == "POST" and form.is_valid():

        def make() -> str:
            made = composing.keep_card(kind, chosen, **form.cleaned_data)
            messages.success(request, f"“{made.name}” is saved. It never changes, so its flights can be compared.")
            return reverse("flights:card", args=[made.key])

        try:
            return redirect(once(request, make))
        except CoreError as error:
            form.add_error(None, str(error))
    suiting = composing.library_for(kind, stage=stage, question=question)
    context = {
        "kind": kind, "stage": stage, "question": question, "kinds": Craft.Kind.choices, "stages": composing.STAGES,
        "questions": composing.QUESTIONS, "chosen": chosen or [one.key for one in suiting if stage or question], "form": form,
        "library": composing.library_for(kind), "suiting": [one.key for one in suiting],
    }  # fmt: skip
    return render(request, "flights/compose.html", context, status=400 if form.is_bound else 200)


@require_POST
def card_away(request: HttpRequest, card_id: int) -> HttpResponse:
    own = get_object_or_404(OwnCard, pk=card_id)
    composing.put_away(own)
    messages.success(request, f"“{own.name}” is hidden. Flights that flew it keep it.")
    return redirect("flights:card_list")
