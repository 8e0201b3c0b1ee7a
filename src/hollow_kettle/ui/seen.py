"""Forms over rows that somebody else may save while they are open."""

from __future__ import annotations

import json
from copy import copy
from typing import Any

from django import forms
from django.db import models
from django.http import HttpRequest

from .forms import Dressed

SEEN = "seen"


def wait_for(request: HttpRequest, model: type[models.Model], key: Any) -> None:
    """
    Let whoever saves this row by now finish, and nobody begin, while a form is saved.

    Called inside a transaction, before the row is read.
    """
    if request.method == "POST":
        rows = model._default_manager.select_for_update().filter(pk=key)
        list(rows.values_list("pk"))


class Seen(Dressed):
    """
    Mix-in for a form over a row: it says what others saved since it was opened.

    It carries along what its fields showed. What others changed, and who has the form
    left alone, is taken over; what both changed stays as typed. Either way nothing is
    saved before somebody looked.
    """

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.watch()

    def watch(self) -> None:
        """Note what is shown; again where fields were added."""
        self.fields.pop(SEEN, None)
        self.shown = {
            name: self._text(name, self.get_initial_for_field(field, name))
            for name, field in self.fields.items()
        }
        self.fields[SEEN] = forms.CharField(
            required=False, widget=forms.HiddenInput, initial=json.dumps(self.shown)
        )

    def clean(self) -> dict[str, Any]:
        """Compare what was shown with what is there now."""
        data: dict[str, Any] = super().clean() or self.cleaned_data
        changed = self._changed(data.pop(SEEN, ""))
        if changed:
            self.add_error(
                None,
                "Somebody else saved this while your form was open: "
                f"{'; '.join(changed)}. Check it and save again.",
            )
        return data

    def _changed(self, sent: str) -> list[str]:
        try:
            seen = dict(json.loads(sent or "{}"))
        except (TypeError, ValueError):
            seen = {}
        names = [key for key, now in self.shown.items() if seen.get(key, now) != now]
        if not names:
            return []
        posted: Any = copy(self.data)
        found = []
        for name in names:
            field = self.fields[name]
            mine = self._text(
                name, field.widget.value_from_datadict(self.data, self.files, name)
            )
            now = self._said(name, self.shown[name])
            if mine == seen[name]:
                self._put(posted, name)
                found.append(f"{field.label} is now {now}")
            elif mine != self.shown[name]:
                found.append(f"{field.label} is now {now}, you have typed {mine}")
        posted[SEEN] = json.dumps(self.shown)
        self.data = posted
        return found or ["the same as you did"]

    def _text(self, name: str, value: Any) -> str:
        field = self.fields[name]
        if isinstance(field, forms.BooleanField):
            return "on" if value else ""
        value = field.prepare_value(value)
        if isinstance(field, forms.MultipleChoiceField):
            return ",".join(sorted(map(str, value or ())))
        if not isinstance(field, forms.ChoiceField):
            value = field.widget.format_value(value)
        return "" if value is None else str(value).replace("\r\n", "\n").strip()

    def _said(self, name: str, text: str) -> str:
        """What a field shows, as people read it."""
        field = self.fields[name]
        if isinstance(field, forms.BooleanField):
            return "ticked" if text else "unticked"
        if isinstance(field, forms.ChoiceField):
            choices: Any = field.choices
            names = {str(key): str(words) for key, words in choices}
            keys = text.split(",") if text else []
            text = ", ".join(names.get(key, key) for key in keys)
        return text or "empty"

    def _put(self, posted: Any, name: str) -> None:
        """Let the form show what others saved."""
        text = self.shown[name]
        if isinstance(self.fields[name], forms.MultipleChoiceField):
            posted.setlist(name, text.split(",") if text else [])
        elif isinstance(self.fields[name], forms.BooleanField) and not text:
            posted.pop(name, None)
        else:
            posted[name] = text
