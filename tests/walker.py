"""Walks every page that can be reached by links, and knows the forms on the way."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from html.parser import HTMLParser
from itertools import count
from urllib.parse import parse_qsl, urljoin, urlsplit

from django import forms

from hollow_kettle.ui.forms import NumberField


@dataclass
class Form:
    """A form of a page: where it goes and what it sends as it stands."""

    action: str
    method: str
    fields: dict[str, str] = field(default_factory=dict)

    @property
    def key(self) -> tuple:
        """Forms alike but for one row's number are one."""
        return (shape(self.action), self.method, tuple(sorted(self.fields)))


class Page(HTMLParser):
    """The links and forms of one page."""

    def __init__(self, address: str, html: str) -> None:
        super().__init__()
        self.address, self.html = address, html
        #: The application's own forms on the page, which know their ranges.
        self.own_forms: list[forms.BaseForm] = []
        self.links: list[str] = []
        self.forms: list[Form] = []
        self._select = ""
        self.feed(html)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note links, forms and their fields."""
        has = {name: value or "" for name, value in attrs}
        for name in ("href", "hx-get"):
            if tag != "link" and name in has:
                self.links.append(urljoin(self.address, has[name].partition("#")[0]))
        if tag == "form":
            action = urljoin(self.address, has.get("action", ""))
            self.forms.append(Form(action, has.get("method", "get")))
        elif tag in ("input", "textarea", "select", "button") and has.get("name"):
            is_off = has.get("type") in ("checkbox", "radio") and "checked" not in has
            if self.forms and not is_off:
                self.forms[-1].fields.setdefault(has["name"], has.get("value", ""))
            self._select = has["name"] if tag == "select" else ""
        elif tag == "option" and self._select and self.forms:
            fields = self.forms[-1].fields
            if "selected" in has or not fields.get(self._select):
                fields[self._select] = has.get("value", "")


def _forms_in(context) -> list[forms.BaseForm]:
    contexts = context if isinstance(context, list) else [context] if context else []
    layers = [layer for one in contexts for layer in one.dicts]
    values = {id(value): value for layer in layers for value in layer.values()}
    return [value for value in values.values() if isinstance(value, forms.BaseForm)]


def at_limits(page: Page, *, is_high: bool) -> list[tuple[str, dict[str, object]]]:
    """What a page's forms accept at the low or the high end of every range."""
    found = []
    for own in page.own_forms:
        for form in page.forms:
            names = set(form.fields) - {"csrfmiddlewaretoken"}
            if form.method == "post" and names and names <= {*own.fields, "do"}:
                sent = {
                    name: _limit(field, own.get_initial_for_field(field, name), is_high)
                    for name, field in own.fields.items()
                }
                sent = {name: value for name, value in sent.items() if value != ""}
                found.append((form.action, form.fields | sent))
    return found


_NUMBERS = count(100)


def _limit(field: forms.Field, initial: object, is_high: bool) -> object:
    end = -1 if is_high else 0
    if isinstance(field, NumberField):
        return f"{field.limit.high if is_high else field.limit.low:.10g}"
    if isinstance(field, forms.BooleanField):
        return "on" if is_high else ""
    if isinstance(field, forms.ModelChoiceField):
        rows = list(field.queryset)
        return str(rows[end].pk) if rows and (is_high or field.required) else ""
    if isinstance(field, forms.MultipleChoiceField):
        return [str(key) for key, _ in field.choices]
    if isinstance(field, forms.ChoiceField):
        keys = [str(key) for key, _ in field.choices if key]
        return keys[end] if keys else ""
    if isinstance(field, forms.DateTimeField):
        return f"{initial:%Y-%m-%d %H:%M}" if initial else ""
    if isinstance(field, forms.DateField | forms.TimeField | forms.FileField):
        return ""
    return initial or (f"W{next(_NUMBERS)}" if field.required else "")


def shape(address: str) -> str:
    """An address with its keys and numbers taken out, and its query's names."""
    parts = urlsplit(address)
    words = [
        word if word.replace("-", "").isalpha() and len(word) < 30 else "*"
        for word in parts.path.split("/")
    ]
    names = sorted(name for name, _ in parse_qsl(parts.query, keep_blank_values=True))
    return "/".join(words) + "?" + "&".join(names)


def walk(client, start: str = "/", *, each: int = 6) -> list[Page]:
    """
    Get every page that links lead to; at most `each` of one shape, one of a file's.

    The client raises what a page raises, so that a page that breaks fails here.
    """
    todo, seen, counts, files, pages = [start], {start}, Counter(), set(), []
    while todo:
        address = todo.pop(0)
        form = shape(address)
        counts[form] += 1
        if counts[form] > each or form in files:
            continue
        answer = client.get(address, follow=True)
        assert answer.status_code < 500, address
        if not answer.get("Content-Type", "").startswith("text/html"):
            files.add(form)
            continue
        page = Page(answer.request["PATH_INFO"], answer.content.decode())
        page.own_forms = _forms_in(answer.context)
        pages.append(page)
        for link in page.links:
            if link.startswith("/") and not link.startswith("/static/"):
                todo += [link] if link not in seen else []
                seen.add(link)
    return pages
