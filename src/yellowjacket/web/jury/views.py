"""A jury on paper: the sheet to print, and the marks that come back."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.look import contact_sheets
from yellowjacket.bench.models import JurySheet
from yellowjacket.bench.typed import whole
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.web.jury import sheets
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sitting_page import SittingPage


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Sheets made so far; on POST a new one."""
    sitting_page = SittingPage(request, sitting_id, "look")
    if request.method == "POST":

        def make() -> None:
            contact_sheets.make_sheet(sitting_page.sitting, sitting_page.use)
            messages.success(request, "The sheet is ready to print. Only the application knows which code is what.")

        carried_out(request, make)
        return redirect(f"{request.path}?use={sitting_page.use.pk}")
    made = list(JurySheet.objects.filter(sitting=sitting_page.sitting).select_related("use"))
    rows = [(sheet, range(1, sheets.pages_of(sheet) + 1)) for sheet in made]
    return render(request, "jury/page.html", sitting_page.context(sheets=rows))


def _sheet(sitting_id: int, token: str) -> JurySheet:
    return get_object_or_404(JurySheet.objects.select_related("use", "sitting"), sitting=sitting_id, token=token)


@require_GET
def pdf(request: HttpRequest, sitting_id: int, token: str) -> HttpResponse:
    """The sheet as PDF."""
    try:
        data = sheets.as_pdf(_sheet(sitting_id, token))
    except FrameError as error:
        raise Http404(str(error)) from error
    response = HttpResponse(data, content_type="application/pdf")
    response["Content-Disposition"] = 'inline; filename="jury-sheet.pdf"'
    return response


@require_GET
def svg(request: HttpRequest, sitting_id: int, token: str) -> HttpResponse:
    """One page of the sheet as SVG, ``?page=`` from 1."""
    sheet = _sheet(sitting_id, token)
    number = whole(request.GET.get("page", "1"), 1, sheets.pages_of(sheet))
    if number is None:
        raise Http404
    try:
        text = sheets.as_svg(sheet, number - 1)
    except FrameError as error:
        raise Http404(str(error)) from error
    response = HttpResponse(text, content_type="image/svg+xml")
    response["Content-Disposition"] = f'attachment; filename="jury-sheet-{number}.svg"'
    return response


@require_POST
def marks(request: HttpRequest, sitting_id: int, token: str) -> HttpResponse:
    """Enter one person's marks; they become grades."""
    sheet = _sheet(sitting_id, token)

    def enter() -> None:
        person = request.POST.get("person", "")
        count = contact_sheets.enter_marks(sheet, person, request.POST.dict())
        messages.success(request, f"{count} marks of {person.strip()} are grades for {sheet.use.name} now.")

    carried_out(request, enter)
    return redirect("jury:page", sitting_id=sitting_id)
