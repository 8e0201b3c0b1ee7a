"""The guide's contents, with an empty club's first steps, and its pages."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_safe

from hollow_kettle.people.access import access_of

from .steps import first_steps, is_empty
from .text import page_of, pages


@require_safe
def home(request: HttpRequest) -> HttpResponse:
    """Go where the work is: to the event under way, or to the first steps."""
    if access_of(request).is_coordinator and is_empty():
        return redirect("guide:contents")
    return redirect("field:home")


@require_safe
def contents(request: HttpRequest) -> HttpResponse:
    """Show the pages there are; to a coordinator also the steps to a first event."""
    steps = first_steps() if access_of(request).is_coordinator else []
    if all(step.is_done for step in steps):
        steps = []
    context = {"pages": pages(), "steps": steps, "is_empty": is_empty()}
    return render(request, "guide/contents.html", context)


@require_safe
def page(request: HttpRequest, slug: str) -> HttpResponse:
    """Show one page."""
    try:
        found = page_of(slug)
    except KeyError:
        raise Http404 from None
    return render(request, "guide/page.html", {"page": found, "pages": pages()})
