"""What people send about assets: their fields, ports, photos."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.forms.boundfield import BoundField

from hollow_kettle.shelf import fields
from hollow_kettle.shelf.fields import Kind, Spec
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import Dressed, NumberField
from hollow_kettle.ui.seen import Seen
from powercore.limits import Limit

from .form_fields import CONNECTORS, GENDERS, DayField, ListField, long_text


def field_of(spec: Spec) -> forms.Field:
    """Return the form's field for a field of a kind."""
    common: dict[str, Any] = {
        "label": spec.label,
        "help_text": spec.help,
        "required": spec.is_needed,
    }
    if spec.how in (fields.NUMBER, fields.WHOLE) and spec.limit is not None:
        return NumberField(
            limit=spec.limit,
            is_whole=spec.how == fields.WHOLE,
            **common,
        )
    if spec.how == fields.CHOICE:
        return forms.ChoiceField(choices=spec.choices, **common)
    if spec.how == fields.YES:
        return forms.BooleanField(**common | {"required": False})
    if spec.how == fields.DATE:
        return DayField(**common)
    if spec.how == fields.TIME:
        return forms.TimeField(
            widget=forms.TimeInput(format="%H:%M", attrs={"placeholder": "22:00"}),
            input_formats=["%H:%M"],
            error_messages={"invalid": "Write the time like 22:00."},
            **common,
        )
    if spec.how in fields.LISTS:
        return ListField(how=spec.how, max_length=spec.most, **common)
    widget = long_text() if spec.how == fields.LONG else forms.TextInput()
    return forms.CharField(max_length=spec.most, widget=widget, **common)


#: What nobody can assume of a battery: its tag, chemistry, volts or cells, and Ah.
FIRST_OF_BATTERIES = {"tag", "chemistry", "series", "nominal_v", "nameplate_ah"}


class AssetForm(Seen, forms.Form):
    """A thing of one kind; its fields come from the table of kinds."""

    def __init__(self, kind: Kind, asset: Asset | None, *args: Any) -> None:
        self.kind = kind
        super().__init__(*args, initial=self._initial(asset))
        specs = [spec for spec in kind.every if spec.asked != "table"]
        for spec in specs:
            self.fields[spec.name] = field_of(spec)
        self._fine = {spec.name for spec in specs if spec.is_fine}
        #: A new battery is asked four things; the rest can be assumed.
        self.is_short = asset is None and kind.key == Asset.BATTERY
        if self.is_short:
            self._fine = {spec.name for spec in specs} - FIRST_OF_BATTERIES
        self._dress()
        self.watch()

    def _initial(self, asset: Asset | None) -> dict[str, Any]:
        detail = getattr(asset, self.kind.attribute) if asset else self.kind.model()
        owner = asset or Asset()
        initial = {name: getattr(owner, name) for name in fields.ASSET_NAMES}
        return initial | {name: getattr(detail, name) for name in self.kind.own_names}

    @property
    def plain(self) -> list[BoundField]:
        """Fields that everybody fills in."""
        return [f for f in self.visible_fields() if f.name not in self._fine]

    @property
    def fine(self) -> list[BoundField]:
        """Fields for those who need them."""
        return [field for field in self if field.name in self._fine]

    @property
    def is_fine_open(self) -> bool:
        """Whether something behind "more" is filled in or wrong."""
        return any(field.errors for field in self.fine)

    def clean(self) -> dict[str, Any]:
        """Complete and check what belongs together."""
        data = super().clean() or self.cleaned_data
        try:
            return self.kind.complete(data)
        except ValidationError as error:
            for name, words in error.message_dict.items():
                if name not in self.errors:
                    self.add_error(name, words)
            return {name: value for name, value in data.items() if name != "nominal_v"}


class RechargeForm(Dressed, forms.Form):
    """What charges a battery, and what runs on it meanwhile."""

    amps = NumberField(
        label="A charger of", limit=Limit(0.01, 500, "A"), required=False
    )
    watts = NumberField(
        label="or panels of",
        limit=Limit(1, 10_000, "W"),
        required=False,
        help_text="What they give in full sun.",
    )
    load_w = NumberField(
        label="while this runs", limit=Limit(0, 10_000, "W"), required=False
    )
    from_pct = NumberField(label="from", limit=Limit(0, 99, "%"), required=False)

    def clean(self) -> dict[str, Any]:
        """One of both."""
        data = super().clean() or self.cleaned_data
        if not self.errors and (data["amps"] is None) == (data["watts"] is None):
            raise ValidationError("Say either what the charger gives or the panels.")
        return data


class PortForm(Dressed, forms.Form):
    """A port: what mates with it, which way power goes."""

    name = forms.CharField(label="Port", max_length=40)
    connector = forms.ChoiceField(label="Connector", choices=CONNECTORS)
    gender = forms.ChoiceField(
        label="is a",
        required=False,
        choices=GENDERS,
    )
    flow = forms.ChoiceField(
        label="It",
        choices=[("out", "gives power"), ("in", "takes power"), ("both", "does both")],
    )
    low_v = NumberField(label="From", limit=Limit(0, 500, "V"), required=False)
    high_v = NumberField(label="To", limit=Limit(0, 500, "V"), required=False)
    max_a = NumberField(label="Up to", limit=Limit(0.01, 2000, "A"), required=False)
    is_reversed = forms.BooleanField(label="Polarity reversed", required=False)
    is_live = forms.BooleanField(label="Live when open", required=False)


class AttachmentForm(Dressed, forms.Form):
    """A photo or a document."""

    file = forms.FileField(
        label="Photo or document",
        help_text="JPEG, PNG or WebP photo up to 12 MB; PDF or plain text up to 5 MB.",
    )
    words = forms.CharField(label="What it shows", max_length=200, required=False)
