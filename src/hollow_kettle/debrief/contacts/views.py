"""Contacts: in from a file, and what they say."""

from __future__ import annotations

from uuid import UUID

from django import forms
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from hollow_kettle.debrief.page import report_of
from hollow_kettle.people.access import access_of, coordinator_of
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.ui.forms import Dressed

from .page import rows_of
from .services import import_contacts


class ContactsForm(Dressed, forms.Form):
    """A station's log of contacts."""

    station = forms.ModelChoiceField(Station.objects.none(), label="Station")
    file = forms.FileField(
        label="ADIF file",
        help_text="Takes the place of what the station had; call signs are not kept.",
    )

    def __init__(self, *args: object, event: Event, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]


@require_http_methods(["GET", "HEAD", "POST"])
def contacts(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show contacts; a coordinator takes a file in."""
    event = event_or_404(request, uid)
    form = ContactsForm(event=event)
    if request.method == "POST":
        coordinator_of(request)
        form = ContactsForm(request.POST, request.FILES, event=event)
        if form.is_valid():
            try:
                read = import_contacts(
                    event,
                    form.cleaned_data["station"],
                    form.cleaned_data["file"].read(),
                )
            except ValidationError as error:
                form.add_error("file", error)
            else:
                outside = f"; {read.outside} outside the event" if read.outside else ""
                messages.success(request, f"{read.kept} contacts kept{outside}.")
                return redirect("debrief:contacts", event.pk)
    context = {
        "event": event,
        "rows": rows_of(report_of(event, event.clock.now())),
        "form": form if access_of(request).is_coordinator else None,
    }
    status = 422 if form.errors else 200
    return render(request, "debrief/contacts.html", context, status=status)
