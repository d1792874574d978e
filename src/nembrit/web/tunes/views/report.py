"""The report of a tune, to print or to keep."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.template.loader import render_to_string
from django.utils.text import slugify
from django.views.decorators.http import require_safe

from nembrit.web.bench.results import ensure_results
from nembrit.web.common.fields import row_number
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services
from nembrit.web.tunes.report import report_of, style
from nembrit.web.tunes.verifying import sides_of_tune


@require_safe
def report(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Changes, what it brought and what was learned, of the present tune or of an earlier one."""
    shown = get_object_or_404(Craft, pk=craft_id)
    tune = shown.tunes.filter(pk=row_number(request.GET.get("tune")) or 0).first() or services.tune_of(shown)
    context = {"craft": shown, "report": report_of(tune)}
    if "save" in request.GET:
        content = render_to_string("tunes/report_file.html", context | {"style": style()})
        name = f"{slugify(shown.name) or 'craft'}-report.html"
        headers = {"Content-Disposition": f'attachment; filename="{name}"'}
        return HttpResponse(content, content_type="text/html; charset=utf-8", headers=headers)
    sides = sides_of_tune(tune) or ([], [])
    return render(request, "tunes/report.html", context | {"waiting": ensure_results([*sides[0], *sides[1]])})
