"""What a service refuses, put onto the form that asked."""

from __future__ import annotations

from typing import Any

from django import forms as django_forms
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction

from .asked import SAVED_MEANWHILE


def tried(form: django_forms.Form, service: Any, *args: Any, **kwargs: Any) -> Any:
    """Call a service; put what it refuses onto the form. None when refused."""
    try:
        with transaction.atomic():
            return service(*args, **kwargs)
    except ValidationError as error:
        refused(form, error)
    except IntegrityError:  # another was first between our look and our write
        form.add_error(None, f"{SAVED_MEANWHILE} Check the list before you go on.")
    return None


def refused(form: django_forms.BaseForm, error: ValidationError) -> None:
    """Put what a service refused beside the fields it is about."""
    if hasattr(error, "error_dict"):
        for name, words in error.message_dict.items():
            form.add_error(name if name in form.fields else None, words)
    else:
        form.add_error(None, error)
