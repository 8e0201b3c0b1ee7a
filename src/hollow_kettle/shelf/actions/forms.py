"""The form of a corrective action, and how it ended."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Action, Asset
from hollow_kettle.ui.forms import Dressed, check_year


class ActionForm(Dressed, forms.ModelForm):
    """What is to be otherwise, by whom, until when."""

    asset = forms.CharField(
        label="About (tag)",
        max_length=24,
        required=False,
        help_text="A battery, kit or lead, where it is one.",
    )

    due_on = forms.DateField(
        label="Until",
        widget=forms.DateInput(
            attrs={"placeholder": "2026-09-01", "autocomplete": "off"},
            format="%Y-%m-%d",
        ),
        error_messages={"invalid": "Write the date like 2026-09-01."},
    )

    class Meta:
        model = Action
        fields = ["words", "owner", "due_on", "station", "evidence"]
        labels = {
            "words": "What is to be done",
            "owner": "Who does it",
            "station": "About (station)",
            "evidence": "What it rests on",
        }

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        action = kwargs.get("instance")
        if action is not None and action.asset is not None:
            kwargs["initial"] = {"asset": action.asset.tag} | (
                kwargs.get("initial") or {}
            )
        super().__init__(*args, **kwargs)
        people = Actor.objects.filter(user__is_active=True)
        if action is not None and action.owner_id is not None:
            people |= Actor.objects.filter(pk=action.owner_id)
        self.fields["owner"].queryset = people  # type: ignore[attr-defined]
        self.fields["owner"].required = True
        self.order_fields(["words", "owner", "due_on", "asset", "station", "evidence"])

    def clean_due_on(self) -> Any:
        """A date of a year in which a club's work can lie."""
        due_on = self.cleaned_data["due_on"]
        check_year(due_on.year)
        return due_on

    def clean_asset(self) -> Asset | None:
        """The thing that carries the tag."""
        tag = self.cleaned_data["asset"].strip()
        if not tag:
            return None
        found = Asset.objects.here().filter(tag__iexact=tag).first()
        if found is None:
            raise forms.ValidationError(
                f"Nothing on the shelf has the tag {tag}.", code="unknown_tag"
            )
        return found


class EndForm(Dressed, forms.Form):
    """That an action is done, or is not going to be."""

    state = forms.ChoiceField(
        label="It is",
        choices=[
            (Action.State.DONE, "done"),
            (Action.State.DROPPED, "not going to be done"),
        ],
    )
    outcome = forms.CharField(label="What was done, or why not", max_length=300)
