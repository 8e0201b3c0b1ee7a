"""What a coordinator says of a new script."""

from django import forms

from hollow_kettle.people.models import Actor
from hollow_kettle.ui.forms import Dressed

from .models import TokenRole


class TokenForm(Dressed, forms.Form):
    """A script's name and what it may do."""

    name = forms.CharField(
        label="Script",
        max_length=40,
        help_text="As the log will name it, like “display at the door”.",
    )
    role = forms.ChoiceField(label="Does", choices=TokenRole.choices)

    def clean_name(self) -> str:
        """Refuse a name that is somebody's: the log would mistake one for the other."""
        name = str(self.cleaned_data["name"])
        if Actor.objects.filter(name__iexact=name).exists():
            raise forms.ValidationError(
                f"“{name}” is in the log already; choose another."
            )
        return name
