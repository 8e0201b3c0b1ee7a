"""A code beside the password: taken on, asked for, once, lost, dropped."""

from datetime import UTC, datetime

import pyotp
import pytest
from django.core.management import call_command
from django.test import Client
from django.urls import reverse

from hollow_kettle.people import second
from hollow_kettle.people.models import Deed, SecondFactor
from hollow_kettle.people.services import make_person
from tests.conftest import PASSWORD

#: The shared secret of the worked examples, "12345678901234567890", in base 32.
RFC_SECRET = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"


@pytest.mark.parametrize(
    # RFC 6238, appendix B, SHA-1; the last six of its eight digits (RFC 4226, 5.3).
    ("seconds", "code"),
    [
        (59, "287082"), (1111111109, "081804"), (1111111111, "050471"),
        (1234567890, "005924"), (2000000000, "279037"), (20000000000, "353130"),
    ],
)  # fmt: skip
def test_codes_are_those_of_the_standard(monkeypatch, seconds, code):
    """Now, half a minute off, and no further; none twice."""

    def at(moment):
        monkeypatch.setattr(
            second, "real_now", lambda: datetime.fromtimestamp(moment, UTC)
        )
        return second.step_of(RFC_SECRET, f"{code[:3]} {code[3:]}")

    step = at(seconds)
    assert step == seconds // 30
    assert {at(max(seconds - 30, 30)), at(seconds + 30)} == {step}
    assert at(seconds + 90) is None
    assert at(max(seconds - 90, 0)) is None or seconds < 90
    at(seconds)
    assert second.step_of(RFC_SECRET, code, after=step) is None


@pytest.fixture
def guarded(client_of):
    """A coordinator who took a code on; its secret and spare codes."""
    client = client_of("coordinator")
    page = client.get(reverse("people:second_factor"))
    secret = page.context["secret"]
    made = pyotp.TOTP(secret)
    wrong = client.post(reverse("people:second_factor"), {"code": "000000"})
    assert "Is the phone" in wrong.content.decode()
    assert not SecondFactor.objects.exists()
    taken = client.post(reverse("people:second_factor"), {"code": made.now()})
    spares = taken.context["spares"]
    assert len(set(spares)) == 8
    assert spares[0] not in client.get(reverse("people:second_factor")).content.decode()
    return secret, spares


def signing_in(name="marin"):
    """Somebody who gave the right password in a new browser."""
    client = Client()
    data = {"username": name, "password": PASSWORD, "next": "/shelf/"}
    answer = client.post(reverse("people:sign_in"), data)
    return client, answer


def opens(client, code):
    """Whether a code lets in, to where somebody wanted."""
    answer = client.post(reverse("people:sign_in_code"), {"code": code})
    assert answer.status_code in (302, 422, 429)
    is_open = answer.status_code == 302 and answer.url == "/shelf/"
    assert (client.get("/shelf/").status_code == 200) == is_open
    return is_open


def test_the_password_alone_lets_nobody_in_and_a_code_opens_once(guarded, monkeypatch):
    """The used code is refused elsewhere; a spare one opens once."""
    secret, spares = guarded
    client, answer = signing_in()
    assert answer.url == reverse("people:sign_in_code")
    assert client.get("/shelf/").status_code == 302
    used = pyotp.TOTP(secret).now()
    assert not opens(client, used)  # it was used to take it on
    later = second.real_now().timestamp() + 30
    monkeypatch.setattr(second, "real_now", lambda: datetime.fromtimestamp(later, UTC))
    code = pyotp.TOTP(secret).at(int(later))
    assert opens(client, code)
    assert not opens(signing_in()[0], code)
    assert opens(signing_in()[0], spares[2].lower())
    assert not opens(signing_in()[0], spares[2])
    assert len(SecondFactor.objects.get().spares) == 7


def test_guesses_are_counted_over_all_browsers(guarded, monkeypatch):
    """Six wrong ones, then none is looked at for ten minutes, not even a right one."""
    _, spares = guarded
    for _ in range(second.MOST_WRONG):
        assert not opens(signing_in()[0], "123 45")
    client, _ = signing_in()
    answer = client.post(reverse("people:sign_in_code"), {"code": spares[0]})
    assert (answer.status_code, "--drop-code" in answer.content.decode()) == (429, True)
    later = second.real_now() + second.WITHIN * 1.01
    monkeypatch.setattr(second, "real_now", lambda: later)
    assert opens(client, spares[0])


def test_the_step_between_lasts_minutes_and_belongs_to_one_browser(guarded):
    """Nobody comes to the code without the password."""
    _, spares = guarded
    stranger = Client()
    answer = stranger.post(reverse("people:sign_in_code"), {"code": spares[0]})
    assert answer.url == reverse("people:sign_in")
    client, _ = signing_in()
    session = client.session
    session["half_signed_in"] = {**session["half_signed_in"], "at": 0}
    session.save()
    answer = client.post(reverse("people:sign_in_code"), {"code": spares[0]})
    assert answer.url == reverse("people:sign_in")
    assert len(SecondFactor.objects.get().spares) == 8


@pytest.mark.parametrize("way", ["own", "other", "server"])
def test_a_code_is_dropped_by_its_owner_a_coordinator_or_the_server(
    guarded, client_of, way, capsys
):
    """One's own only with the password; each stands among who changed what."""
    client = client_of("coordinator")
    if way == "own":
        drop = reverse("people:second_drop")
        client.post(drop, {"password": "not it"})
        assert SecondFactor.objects.exists()
        client.post(drop, {"password": PASSWORD})
    elif way == "other":
        other = make_person("heron2", password=PASSWORD, is_coordinator=True)
        browser = Client()
        browser.force_login(other.user)
        marin = SecondFactor.objects.get().user.actor
        browser.post(reverse("people:person_second_drop", args=[marin.pk]))
    else:
        call_command("unlock", "Marin", drop_code=True)
        assert "asks for no code now" in capsys.readouterr().out
    assert not SecondFactor.objects.exists()
    assert signing_in()[1].url == "/shelf/"
    assert list(Deed.objects.values_list("kind", flat=True)[:1]) == ["second_off"]
