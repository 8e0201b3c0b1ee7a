"""Every page of the demo, read as a browser and a screen reader read it."""

import re
from collections import Counter
from html.parser import HTMLParser

import pytest
from django.test import Client
from hypothesis import given
from hypothesis import strategies as st
from scripts.pages import plain
from scripts.templates import laid_out

from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.prints import paper
from tests.walker import walk

pytestmark = pytest.mark.django_db


class Parts(HTMLParser):
    """The ids of a page, what labels and descriptions point to, and its buttons."""

    def __init__(self, html: str) -> None:
        super().__init__()
        self.ids: list[str] = []
        self.targets: list[str] = []
        self.controls: list[dict[str, str]] = []
        self.labelled: set[str] = set()
        self.nameless: list[str] = []
        self._named: list[list[str]] = []
        self._in_label = 0
        self.feed(html)

    def handle_starttag(self, tag, attrs):
        """Note ids, what points to them, and what wants a name."""
        has = {name: value or "" for name, value in attrs}
        self.ids += [has["id"]] if "id" in has else []
        for name in ("for", "aria-labelledby", "aria-describedby", "list"):
            self.targets += has.get(name, "").split()
        if tag == "label":
            self._in_label += 1
            self.labelled |= {has["for"]} if has.get("for") else set()
        if tag in ("button", "a", "summary"):
            self._named.append([tag, has.get("aria-label", has.get("title", ""))])
        if tag in ("input", "select", "textarea") and has.get("type") != "hidden":
            is_said = self._in_label or has.get("aria-label") or has.get("value")
            is_button = has.get("type") in ("submit", "button")
            if not (is_said if is_button else self._in_label or has.get("aria-label")):
                self.controls.append(has)

    def handle_data(self, data):
        """Words inside a button name it."""
        for named in self._named:
            named[1] += data.strip()

    def handle_endtag(self, tag):
        """A button that ends without words has no name."""
        if tag == "label":
            self._in_label -= 1
        if self._named and self._named[-1][0] == tag:
            found = self._named.pop()
            self.nameless += [] if found[1] else [tag]

    @property
    def faults(self) -> list[str]:
        """What a reader of the page would stumble over."""
        twice = [one for one, count in Counter(self.ids).items() if count > 1]
        lost = sorted(set(self.targets) - set(self.ids))
        unsaid = [
            has.get("name", "?")
            for has in self.controls
            if has.get("id", "") not in self.labelled
        ]
        return [
            *(f"id {one} twice" for one in twice),
            *(f"nothing has the id {one}" for one in lost),
            *(f"{one} has no label" for one in unsaid),
            *(f"{one} without a name" for one in self.nameless),
        ]


def test_no_page_has_an_id_twice_a_label_for_nothing_or_a_nameless_button(
    demo, monkeypatch
):
    """As the coordinator and as one who may only look."""
    monkeypatch.setattr(paper, "_render", lambda *args: b"%PDF-")
    wrong = {}
    for name in ("marin", "lark"):
        for page in walk(signed_in(name), each=3):
            faults = Parts(page.html).faults
            wrong |= {f"{name} {page.address}": faults} if faults else {}

    assert not wrong, "\n".join(f"{page}: {faults}" for page, faults in wrong.items())


def signed_in(name: str) -> Client:
    """Somebody's client."""
    client = Client()
    client.force_login(Actor.objects.get(user__username=name).user)
    return client


def test_what_is_wrong_in_a_form_is_said_where_the_field_points(demo):
    """Each error has the id that its field is described by."""
    sent = {"tag": "", "series": "x"}
    page = signed_in("marin").post("/shelf/add/battery/", sent).content.decode()

    assert 'id="id_tag_error"' in page
    assert re.search(r'aria-describedby="[^"]*id_tag_error"', page)
    assert Parts(page).faults == []


WORDS = st.lists(
    st.sampled_from(["a", "bc", "{{ x }}", "d" * 60, " ", "  ", ",", "\n"]), max_size=12
).map("".join)
PIECES = st.recursive(
    WORDS,
    lambda inner: st.one_of(
        st.tuples(inner, inner).map("".join),
        inner.map("<b>{}</b>".format),
        inner.map('<p class="soft">{}</p>'.format),
        inner.map("<button>{}</button>".format),
        inner.map(lambda text: f"{{% if x %}}{text}{{% else %}}e{{% endif %}}"),
        inner.map(lambda text: f"{{% for x in y %}}{text}{{% endfor %}}"),
    ),
    max_leaves=8,
)


def shown(template: str, is_so: bool) -> str:
    """What a browser shows of a template whose conditions all hold, or none does."""
    from django.template import Context, Template

    given = {"x": "w" if is_so else "", "y": ["u", "v"] if is_so else []}
    return plain(Template(template).render(Context(given)))


@given(PIECES)
def test_laying_a_template_out_changes_nothing_that_is_seen(template):
    """White space moves only to where it isn't seen; a second time nothing moves."""
    once = laid_out(template)

    assert laid_out(once) == once
    for is_so in (True, False):
        assert shown(once, is_so) == shown(template, is_so)
