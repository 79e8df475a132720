"""Pages of the book, and the files they show."""

from __future__ import annotations

from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from yellowjacket.web.help import book


@require_GET
def page(request: HttpRequest, key: str = "quick-start") -> HttpResponse:
    """A page of the book beside its contents."""
    found = book.page_of(key)
    if found is None:
        raise Http404("the book has no such page")
    context = {"place": "help", "sections": book.contents(), "page": found, "text": book.html_of(found)}
    return render(request, "help/page.html", context)


@require_GET
def file(request: HttpRequest, name: str) -> FileResponse:
    """A picture or schema of the book."""
    found = book.file_of(name)
    if found is None:
        raise Http404("the book has no such file")
    return FileResponse(found.open("rb"))
