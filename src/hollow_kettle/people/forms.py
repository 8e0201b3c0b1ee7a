"""Forms about people and the club."""

from typing import Any

from django import forms
from django.contrib.auth.forms import AuthenticationForm

from hollow_kettle.clock import is_known_zone
from hollow_kettle.ui.forms import Dressed


class SignInForm(Dressed, AuthenticationForm):
    """Name and password."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["username"].label = "Sign-in name"

    error_messages = {
        "invalid_login": "That name and password don't belong together.",
        "inactive": "This sign-in has been closed.",
    }


class ClubForm(Dressed, forms.Form):
    """Name and zone of the club."""

    name = forms.CharField(label="Club's name", max_length=80)
    zone = forms.CharField(
        label="Time zone", max_length=60, help_text="An IANA name: America/Chicago."
    )

    def clean_zone(self) -> str:
        """Accept only zones this machine knows."""
        zone = str(self.cleaned_data["zone"])
        if not is_known_zone(zone):
            raise forms.ValidationError(
                f"There is no time zone '{zone}'; use an IANA name such as "
                "America/Chicago or Europe/Oslo.",
                code="unknown_zone",
            )
        return zone


class PersonForm(Dressed, forms.Form):
    """A new sign-in."""

    username = forms.CharField(label="Sign-in name", max_length=60)
    name = forms.CharField(label="Name shown", max_length=80)
    password = forms.CharField(
        label="First password",
        widget=forms.PasswordInput,
        help_text="10 characters or more; tell it to the person yourself.",
    )
    is_coordinator = forms.BooleanField(label="Coordinates power", required=False)
