"""The door: sign-in, lock-out per name and address, the first coordinator."""

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.core.management import CommandError, call_command
from django.test import Client
from django.urls import reverse

from hollow_kettle.people import sessions
from hollow_kettle.people.models import Actor, User
from hollow_kettle.people.services import make_person
from tests.conftest import PASSWORD


def try_password(client, name, password):
    """Try to sign in."""
    url = reverse("people:sign_in")
    return client.post(url, {"username": name, "password": password})


def test_too_many_tries_lock_one_name_until_unlocked(client, people):
    """Others in the same tent still get in; unlock works at once."""
    for _ in range(6):
        last = try_password(client, "logger", "wrong")
    assert last.status_code == 429
    assert "./kettle unlock" in last.content.decode()
    assert try_password(client, "logger", PASSWORD).status_code == 429
    assert try_password(client, "runner", PASSWORD).status_code == 302

    client.logout()
    call_command("unlock", "logger", verbosity=0)
    assert try_password(client, "logger", PASSWORD).status_code == 302


class Elsewhere:
    """Browsers behind the club's https proxy, each with an address of its own."""

    def __init__(self, address):
        self.client = Client(
            REMOTE_ADDR="10.0.0.9", headers={"x-forwarded-for": f"1.2.3.4, {address}"}
        )

    def tries(self, name, password):
        """The status of a try to sign in."""
        return try_password(self.client, name, password).status_code


@pytest.mark.parametrize("guesser", ["203.0.113.7", "2001:db8::7"])
def test_guesses_elsewhere_lock_nobody_out(people, settings, guesser):
    """Behind a proxy each address counts for itself, whatever it says it is."""
    settings.TRUSTED_PROXIES = ["10.0.0.0/24"]
    thief, marin = Elsewhere(guesser), Elsewhere("203.0.113.8")

    assert [thief.tries("marin", "wrong") for _ in range(6)][-1] == 429
    assert thief.tries("MARIN", PASSWORD) == 429
    assert Elsewhere(guesser).tries("mar\u0456n", PASSWORD) == 429
    assert marin.tries("marin", PASSWORD) == 302


def test_without_a_proxy_named_nobody_takes_another_s_address(people):
    """What a caller writes into the header counts only from a proxy of ours."""
    tries = [Elsewhere(f"203.0.113.{n}").tries("logger", "wrong") for n in range(6)]

    assert tries[-1] == 429


def test_a_browser_that_signed_in_before_gets_in_past_a_lock_out(people):
    """Guesses from the same address don't count against it; its own do."""
    known, guesser = Client(), Client()
    assert try_password(known, "logger", PASSWORD).status_code == 302
    known.logout()  # the cookie that knows the browser stays
    known.cookies["kettle_known"] = (
        try_password(Client(), "logger", PASSWORD).cookies["kettle_known"].value
    )
    for _ in range(6):
        last = try_password(guesser, "logger", "wrong")
    assert last.status_code == 429
    assert try_password(guesser, "logger", PASSWORD).status_code == 429

    assert try_password(known, "logger", PASSWORD).status_code == 302
    known.post(reverse("people:sign_out"))
    tries = [try_password(known, "logger", "wrong").status_code for _ in range(6)]
    assert tries[-1] == 429
    call_command("unlock", "logger", verbosity=0)
    assert try_password(known, "logger", PASSWORD).status_code == 302


def test_a_wrong_password_says_so_and_no_more(client, people):
    """The message does not tell whether the name exists."""
    known = try_password(client, "logger", "wrong").content.decode()
    unknown = try_password(client, "nobody-here", "wrong").content.decode()

    words = "Wrong name or password."
    assert words in known
    assert words in unknown


def test_the_first_coordinator_is_made_by_command(db, monkeypatch, capsys):
    """./kettle coordinator NAME; a weak password makes nobody."""
    monkeypatch.setenv("KETTLE_PASSWORD", "12345")
    with pytest.raises(CommandError, match="easy to guess"):
        call_command("make_coordinator", "fern")
    assert not User.objects.exists()

    monkeypatch.setenv("KETTLE_PASSWORD", PASSWORD)
    call_command("make_coordinator", "fern")

    assert Actor.objects.get(name="fern").is_coordinator


def test_serving_refuses_the_demo_s_passwords(db, django_user_model):
    """A public server must not know a password that is printed in public."""
    call_command("refuse_demo_sign_ins")
    django_user_model.objects.create_user("lark", password="kettle-on-the-boil")

    with pytest.raises(CommandError, match="lark"):
        call_command("refuse_demo_sign_ins")


def test_a_new_person_and_the_club_are_checked(boss, stocked):
    """A taken name, a weak password and an unknown zone are refused on the page."""
    add, club = reverse("people:person_add"), reverse("people:club_edit")
    person = {"username": "Fern1", "name": "Fern", "password": PASSWORD}

    assert boss.post(add, person | {"password": "short"}).status_code == 422
    assert boss.post(add, person | {"username": "marin"}).status_code == 422
    assert boss.post(add, person).status_code == 302
    for twin in ("fern1", "FERN1", "f\u0435rnl", "fernI"):
        refused = boss.post(add, person | {"username": twin})
        assert "reads like one that is" in refused.content.decode(), twin
    wrong = boss.post(club, {"name": "Tarn Club", "zone": "Mars/Olympus"})
    assert "no time zone" in wrong.content.decode()
    assert (
        boss.post(club, {"name": "Tarn Club", "zone": "Europe/Oslo"}).status_code == 302
    )


OTHER = "lantern-over-gravel"


@pytest.mark.parametrize(
    "password",
    ["passwordpassword", "abcdefghijkl", "aaaaaaaaaaaa", "1234567890", "qwertyuiop",
     "HollowKettle1", "fieldday2026", "Test Club 26"],
)  # fmt: skip
def test_passwords_that_are_guessed_early_are_refused(stocked, password):
    """Common, repeated, sequential, of the context: NIST SP 800-63B, 5.1.1.2."""
    with pytest.raises(ValidationError):
        make_person("fern", password=password)


def test_a_first_password_is_changed_before_anything_else(boss, stocked, client):
    """Whoever gets one is led to the page; a wrong or weak one is said there."""
    person = {"username": "fern", "name": "Fern", "password": PASSWORD}
    boss.post(reverse("people:person_add"), person)
    page, shelf = reverse("people:own_password"), reverse("shelf:asset_list")
    try_password(client, "Fern", PASSWORD)

    assert client.get(shelf)["Location"] == page
    assert client.get(shelf, headers={"hx-request": "true"})["HX-Redirect"] == page
    new = {"new_password1": OTHER, "new_password2": OTHER}
    wrong = client.post(page, new | {"old_password": "no"})
    assert "that is wrong" in wrong.content.decode()
    assert client.post(page, new | {"old_password": PASSWORD}).status_code == 302
    assert client.get(shelf).status_code == 200


def test_a_closed_sign_in_ends_its_sessions_and_a_link_opens_it_once(
    boss, client_of, client, people
):
    """No mail is needed; no session of before lives on."""
    runner, actor = client_of("runner"), people["runner"]
    shelf = reverse("shelf:asset_list")
    assert runner.get(shelf).status_code == 200

    boss.post(reverse("people:person_close", args=[actor.pk]))
    assert runner.get(shelf).status_code == 302
    assert try_password(client, "runner", PASSWORD).status_code == 200
    own = reverse("people:person_close", args=[people["coordinator"].pk])
    assert "another coordinator can" in boss.post(own, follow=True).content.decode()

    page = boss.post(reverse("people:person_link", args=[actor.pk]))
    link = page.context["link"]
    assert link in page.content.decode()
    new = {"new_password1": OTHER, "new_password2": OTHER}
    form = client.get(link, follow=True).redirect_chain[-1][0]
    client.post(form, new)
    assert "no longer works" in Client().get(link, follow=True).content.decode()
    assert runner.get(shelf).status_code == 302
    assert try_password(client, "runner", OTHER).status_code == 302


def test_private_pages_stay_in_no_browser(boss, client):
    """The next one at a shared laptop finds nothing by going back."""
    for answer in (boss.get(reverse("shelf:asset_list")), client.get("/sign-in/")):
        assert "no-store" in answer["Cache-Control"]


def signed_in_as(name, agent):
    """A browser that signed in at the door."""
    browser = Client(headers={"user-agent": agent})
    assert try_password(browser, name, PASSWORD).status_code == 302
    return browser


PHONE = "Mozilla/5.0 (Linux; Android 14) AppleWebKit/537.36 Chrome/120.0 Safari/537.36"
LAPTOP = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"


def test_one_sees_where_one_is_signed_in_and_signs_a_lost_phone_out(people):
    """Own browsers only; the others, one or all, and never the one that asks."""
    laptop, phone = signed_in_as("logger", LAPTOP), signed_in_as("logger", PHONE)
    other = signed_in_as("runner", "curl/8")
    url, end = reverse("people:signed_in"), reverse("people:sign_out_elsewhere")

    page = laptop.get(url)
    first, second = page.context["places"]
    assert (first.browser, first.is_this) == ("Firefox on Linux", True)
    assert (second.browser, second.is_this) == ("Chrome or Chromium on Android", False)
    foreign = other.get(url).context["places"][0]
    assert foreign.browser == "curl"

    for key in (foreign.key, first.key, "x", 2**80):  # not its to end, or no browser
        laptop.post(end, {"place": key})
    for still in (other, laptop, phone):
        assert still.get(url).status_code == 200

    found = {place.browser: place for place in laptop.get(url).context["places"]}
    said = laptop.post(
        end, {"place": found["Chrome or Chromium on Android"].key}, follow=True
    )
    assert "Signed out of one browser." in said.content.decode()
    assert phone.get(url).status_code == 302
    assert len(laptop.get(url).context["places"]) == 1


def test_a_new_password_signs_out_all_others_and_use_is_kept_to_the_hour(
    people, monkeypatch
):
    """The browser that changed it stays, under a new session."""
    laptop, phone = signed_in_as("logger", LAPTOP), signed_in_as("logger", PHONE)
    later = sessions.real_now() + timedelta(hours=5)
    monkeypatch.setattr(sessions, "real_now", lambda: later)
    url = reverse("people:signed_in")
    first, second = laptop.get(url).context["places"]
    assert first.seen_at == later
    assert second.seen_at < later

    new = "granite-and-bracken"
    laptop.post(
        reverse("people:own_password"),
        {"old_password": PASSWORD, "new_password1": new, "new_password2": new},
    )
    assert phone.get(url).status_code == 302
    (left,) = laptop.get(url).context["places"]
    assert left.is_this
