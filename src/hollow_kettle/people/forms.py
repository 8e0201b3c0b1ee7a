"""Forms about people and the club."""

from typing import Any

from django import forms
from django.contrib.auth.forms import (
    AuthenticationForm,
    PasswordChangeForm,
    SetPasswordForm,
)

from hollow_kettle.clock import is_known_zone
from hollow_kettle.ui.forms import Dressed
from hollow_kettle.ui.seen import Seen

from .models import User
from .services import set_password


class SignInForm(Dressed, AuthenticationForm):
    """Name and password."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["username"].label = "User name"

    error_messages = {
        "invalid_login": "Wrong name or password.",
        "inactive": "This account is closed.",
    }


class ClubForm(Seen, forms.Form):
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


class CodeForm(Dressed, forms.Form):
    """The spoken code of a pass."""

    code = forms.CharField(
        label="Code",
        max_length=40,
        help_text="Eight letters and digits, as the coordinator reads them out.",
    )


class AppCodeForm(Dressed, forms.Form):
    """The code of an app, or a spare one."""

    code = forms.CharField(
        label="Code",
        max_length=20,
        help_text="Six digits of your app, or a spare code of ten letters and digits.",
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code"}),
    )


class OwnPasswordAgainForm(Dressed, forms.Form):
    """One's own password, once more."""

    ids = "again_%s"
    password = forms.CharField(
        label="Your password",
        strip=False,
        widget=forms.PasswordInput(attrs={"autocomplete": "current-password"}),
    )

    def __init__(self, user: User, *args: Any, **kwargs: Any) -> None:
        self._user = user
        super().__init__(*args, **kwargs)

    def clean_password(self) -> str:
        """Only the right one."""
        said = str(self.cleaned_data["password"])
        if not self._user.check_password(said):
            raise forms.ValidationError("That is not your password.")
        return said


class JoinForm(Dressed, forms.Form):
    """Who joins by a pass."""

    name = forms.CharField(label="Your name", max_length=60)
    call_sign = forms.CharField(
        label="Call sign",
        max_length=12,
        required=False,
        help_text="Empty when you have none.",
    )

    def clean_call_sign(self) -> str:
        """Letters, digits and strokes, as call signs have."""
        said = str(self.cleaned_data["call_sign"]).strip().upper()
        if said and not all(one.isalnum() or one in "/-" for one in said):
            raise forms.ValidationError(
                "A call sign has letters, digits, / and -, such as QX1ABC/P."
            )
        return said


class PersonForm(Dressed, forms.Form):
    """A new sign-in."""

    username = forms.CharField(label="User name", max_length=60)
    name = forms.CharField(label="Display name", max_length=80)
    password = forms.CharField(
        label="First password",
        max_length=128,
        widget=forms.PasswordInput,
        help_text="10 characters or more, such as three or four words that don't "
        "belong together. The person changes it when they first sign in.",
    )
    is_coordinator = forms.BooleanField(label="Power coordinator", required=False)


class _OwnPassword(Dressed):
    """Asks for a password that its own person chooses."""

    user: User

    def _dress(self) -> None:
        super()._dress()
        self.fields["new_password1"].label = "New password"
        self.fields[
            "new_password1"
        ].help_text = "10 characters or more. Three or four unrelated words work well; "
        "digits and signs are not needed."
        self.fields["new_password2"].label = "New password again"
        self.fields["new_password2"].help_text = ""

    def save(self, commit: bool = True) -> User:
        """Keep the password; sessions elsewhere end."""
        set_password(self.user, self.cleaned_data["new_password1"])
        return self.user


class OwnPasswordForm(_OwnPassword, PasswordChangeForm):
    """The old password and a new one."""

    error_messages = PasswordChangeForm.error_messages | {
        "password_incorrect": "Current password: that is wrong.",
        "password_mismatch": "New password: the two don't match.",
    }

    def _dress(self) -> None:
        super()._dress()
        self.fields["old_password"].label = "Current password"


class LinkPasswordForm(_OwnPassword, SetPasswordForm):
    """A new password, for whoever has the one-time link."""

    error_messages = {"password_mismatch": "New password: the two don't match."}
