"""Tags and filters of the interface; built in, so templates need no load."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from typing import Any

from django import template
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString, mark_safe

from hollow_kettle.clock import letters_of, local
from hollow_kettle.ui import drawing

register = template.Library()


@register.inclusion_tag("ui/_kettle.html")
def kettle(
    mean: float | None,
    low: float | None = None,
    high: float | None = None,
    reserve: float | None = None,
    size: str = "md",
    tag: str = "",
) -> dict[str, Any]:
    """Draw a battery's kettle; without a charge it is wholly in doubt."""
    if mean is None:
        mean, low, high = 0.5, 0.02, 0.98
    low = mean if low is None else low
    high = mean if high is None else high
    return {"kettle": drawing.kettle(mean, low, high, reserve, tag), "size": size}


@register.inclusion_tag("ui/_kettle.html")
def kettle_of(battery: Any, size: str) -> dict[str, Any]:
    """Draw the kettle of a battery of the field board or of the shelf's list."""
    soc, reserve = battery.soc, battery.pack.reserve_soc
    if hasattr(soc, "typical"):
        return kettle(soc.typical, soc.low, soc.high, reserve, size, battery.tag)
    low, high, tag = battery.soc_low, battery.soc_high, battery.asset.tag
    return kettle(soc, low, high, reserve, size, tag)


@register.inclusion_tag("ui/_remove.html", takes_context=True)
def remove_button(
    context: template.Context, name: object, view: str, *keys: object
) -> dict[str, Any]:
    """The button that takes a row away: what it is called, and where that is sent."""
    token = context.get("csrf_token")
    return {"name": name, "url": reverse(view, args=keys), "csrf_token": token}


@register.simple_tag
def heads(*columns: str) -> SafeString:
    """
    The head of a table.

    A column is its name; "Need|Wh" is a column of numbers with its unit, "Slack|" one
    without; "~Tick" is said to a screen reader only.
    """
    return format_html(
        "<thead><tr>{}</tr></thead>",
        format_html_join("", "{}", ((_head(column),) for column in columns)),
    )


def _head(column: str) -> SafeString:
    name, bar, unit = column.partition("|")
    if name.startswith("~"):
        return format_html(
            '<th scope="col"><span class="visually-hidden">{}</span></th>', name[1:]
        )
    if not bar:
        return format_html('<th scope="col">{}</th>', name)
    told = format_html(' <span class="unit">{}</span>', unit) if unit else ""
    return format_html('<th scope="col" class="right">{}{}</th>', name, told)


@register.simple_block_tag
def empty_state(content: str, lead: str) -> SafeString:
    """What a page shows while it has nothing: an empty kettle and what to do."""
    drawn = render_to_string("ui/_kettle.html", kettle(0.0, 0.0, 0.0, size="xl"))
    return format_html(
        '<div class="empty">{}<div><p class="lead">{}</p>{}</div></div>',
        mark_safe(drawn),  # noqa: S308 - a template's own output
        lead,
        content,
    )


@register.filter
def tag(words: object) -> SafeString:
    """A tag as it stands on a battery's label."""
    return format_html('<span class="tag">{}</span>', words)


@register.filter
def against(one: int, other: int) -> SafeString:
    """The query that compares two rotations by their numbers."""
    return format_html("?one={}&other={}", one, other)


#: How a moment is shown: within a day, within an event, and over the years.
_PATTERNS = {
    "time": "%H:%M",
    "day": "%a %d %b %H:%M",
    "date": "%d %b %Y",
    "full": "%a %d %b %Y %H:%M",
}


@register.simple_tag
def at(moment: datetime | None, zone: str, form: str = "time") -> SafeString | str:
    """Show a moment in local time; UTC stands beside it for the `u` key."""
    if moment is None:
        return "–"
    here, utc = local(moment, zone), moment.astimezone(UTC)
    pattern = _PATTERNS[form]
    zone_letters = "" if form == "date" else letters_of(moment, zone)
    return format_html(
        '<time datetime="{}" data-local="{}" data-utc="{}">{}</time>',
        utc.isoformat(timespec="minutes"),
        here.strftime(pattern) + zone_letters,
        utc.strftime(pattern) + ("" if form == "date" else "Z"),
        here.strftime(pattern) + zone_letters,
    )


@register.filter
def percent(share: float | None) -> str:
    """0.618 as 62%."""
    return "–" if share is None else f"{share * 100:.0f}%"


@register.filter
def chance(share: float) -> str:
    """0.05 as "1 in 20", 0.7 as "7 in 10"; what is hardly so or surely so, in words."""
    if share < 0.01:
        return "less than 1 in 100"
    if share > 0.95:
        return "almost sure"
    if share <= 0.5:
        return f"1 in {1 / share:.0f}"
    return f"{10 * share:.0f} in 10"


@register.filter
def pct(share: float | None) -> str:
    """0.618 as 62."""
    return "–" if share is None else f"{share * 100:.0f}"


@register.filter
def wh(value: float | None) -> str:
    """Watt-hours with a thousands comma and no decimals."""
    return "–" if value is None else f"{value:,.0f}"


@register.filter
def cell(words: object) -> SafeString:
    """Words for a cell of a table in Markdown, which nothing in them can end."""
    text = " ".join(str(words).split()).replace("\\", "\\\\").replace("|", "\\|")
    return mark_safe(text.replace("<", "&lt;"))  # noqa: S308 - no markup is left


@register.filter
def plain(value: int) -> str:
    """A whole number that may be below zero, with a minus of its own width."""
    return f"{value:,}".replace("-", "−")


@register.filter
def ah(value: float | None) -> str:
    """Amp-hours with one decimal, none from a hundred on."""
    if value is None:
        return "–"
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}"


@register.filter
def hours(value: float | None) -> str:
    """Hours as h:mm; a load of nothing lasts for no hours worth naming."""
    if value is None or math.isinf(value):
        return "–"
    minutes = int(value * 60 + 1e-6)
    return f"{minutes // 60}:{minutes % 60:02d}"


@register.filter
def span(value: float | None) -> str:
    """Minutes as "95 min", from two hours on as "14 h"."""
    if value is None:
        return "–"
    return f"{value:.0f} min" if abs(value) < 120 else f"{value / 60:.0f} h"


@register.filter
def seconds(value: float) -> str:
    """Seconds as "42 s", from two minutes on as "3 min"."""
    return f"{value:.0f} s" if value < 120 else f"{value / 60:.0f} min"


@register.filter
def signed(value: float | None) -> str:
    """A difference with its sign: +2.9, with thousands commas from 100 on."""
    if value is None:
        return "–"
    return f"{value:+,.0f}" if abs(value) >= 100 else f"{value:+.1f}"


@register.filter
def amount(value: float | None) -> str:
    """A figure with one decimal, none where it has none or from 100 on."""
    if value is None:
        return "–"
    whole = abs(value) >= 100 or float(value).is_integer()
    return f"{value:,.0f}" if whole else f"{value:.1f}"


@register.filter
def minutes(value: float | None) -> str:
    """Whole minutes."""
    return "–" if value is None else f"{value:.0f}"
