"""How every form of the application is drawn."""

from datetime import datetime, time
from typing import Any

from django import forms
from django.forms.renderers import TemplatesSetting

from powercore.errors import PowercoreError
from powercore.limits import YEARS, Limit
from powercore.values import in_range, parse_quantity

FIRST_YEAR, LAST_YEAR = int(YEARS.low), int(YEARS.high)


class KettleFormRenderer(TemplatesSetting):
    """Draws forms and fields by our own two templates."""

    form_template_name = "ui/form.html"
    field_template_name = "ui/field.html"


class Dressed(forms.BaseForm):
    """Mix-in that gives each widget its style."""

    #: Ids of its fields; forms that stand on one page have their own.
    ids = "id_%s"

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        kwargs.setdefault("auto_id", self.ids)
        super().__init__(*args, **kwargs)
        self._dress()

    def _dress(self) -> None:
        for field in self.fields.values():
            widget = field.widget
            style = "form-control"
            if isinstance(widget, forms.CheckboxInput):
                style = "form-check-input"
            elif isinstance(widget, forms.Select):
                style = "form-select"
            if isinstance(field, forms.ModelChoiceField) and field.empty_label:
                field.empty_label = field.empty_label.replace("---------", "choose…")
            widget.attrs.setdefault("class", style)


class NumberField(forms.CharField):
    """A number as people type it, with its unit or another, within a range."""

    def __init__(
        self,
        *,
        limit: Limit,
        unit: str = "",
        is_whole: bool = False,
        **kwargs: Any,
    ) -> None:
        self.limit, self.unit = limit, unit or limit.unit
        self.is_whole = is_whole
        super().__init__(**kwargs)
        self.widget.attrs.update({"inputmode": "decimal", "autocomplete": "off"})

    def clean(self, value: Any) -> float | int | None:
        """Return a number, or None for an empty field that may be empty."""
        text = super().clean(value)
        if not text:
            return None
        name = self.label or "It"
        try:
            number = in_range(
                str(name),
                parse_quantity(str(text), str(name), self.unit),
                low=self.limit.low,
                high=self.limit.high,
                unit=self.unit,
                why=self.limit.why,
            )
        except PowercoreError as error:
            raise forms.ValidationError(str(error), code="out_of_range") from error
        if not self.is_whole:
            return number
        if number != int(number):
            raise forms.ValidationError(
                f"{name} must be a whole number, not {text}.", code="not_whole"
            )
        return int(number)

    def prepare_value(self, value: Any) -> Any:
        """Show 20 rather than 20.0."""
        return f"{value:g}" if isinstance(value, float) else value


def time_of_day(text: str) -> time:
    """Read a time of day such as 22:00 or 6:30; raises ValueError."""
    return datetime.strptime(text.strip(), "%H:%M").time()  # noqa: DTZ007 - wall time


class WallTimeField(forms.DateTimeField):
    """
    A local date and time in 24 hours, typed; the zone is the event's.

    A browser's own picker shows 12 hours wherever its language does, so it is not
    used.
    """

    default_error_messages = {
        "invalid": "Write the date and the time like 2026-06-27 14:00."
    }

    def __init__(self, **kwargs: Any) -> None:
        kwargs.setdefault(
            "widget",
            forms.DateTimeInput(
                attrs={"placeholder": "2026-06-27 14:00", "autocomplete": "off"},
                format="%Y-%m-%d %H:%M",
            ),
        )
        kwargs.setdefault("input_formats", ["%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M"])
        super().__init__(**kwargs)

    def to_python(self, value: Any) -> Any:
        """Return wall-clock time without a zone; the service expands it."""
        moment = super().to_python(value)
        if moment is None:
            return None
        check_year(moment.year)
        return moment.replace(tzinfo=None)


def check_year(year: int) -> None:
    """
    Refuse a year in which nothing of a club can lie.

    Raises
    ------
    ValidationError
        Naming the range.
    """
    if not FIRST_YEAR <= year <= LAST_YEAR:
        raise forms.ValidationError(
            f"The year must be between {FIRST_YEAR} and {LAST_YEAR}, not {year}.",
            code="out_of_range",
        )
