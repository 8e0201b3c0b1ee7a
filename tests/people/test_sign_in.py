"""The door: sign-in, lock-out per name and address, the first coordinator."""

import pytest
from django.core.management import CommandError, call_command
from django.urls import reverse

from hollow_kettle.people.models import Actor, User
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


def test_a_wrong_password_says_so_and_no_more(client, people):
    """The message does not tell whether the name exists."""
    known = try_password(client, "logger", "wrong").content.decode()
    unknown = try_password(client, "nobody-here", "wrong").content.decode()

    words = "That name and password don&#x27;t belong together."
    assert words in known
    assert words in unknown


def test_the_first_coordinator_is_made_by_command(db, monkeypatch, capsys):
    """./kettle coordinator NAME; a weak password makes nobody."""
    monkeypatch.setenv("KETTLE_PASSWORD", "12345")
    with pytest.raises(CommandError, match="too short"):
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
    person = {"username": "fern", "name": "Fern", "password": PASSWORD}

    assert boss.post(add, person | {"password": "short"}).status_code == 422
    assert boss.post(add, person | {"username": "marin"}).status_code == 422
    assert boss.post(add, person).status_code == 302
    wrong = boss.post(club, {"name": "Tarn Club", "zone": "Mars/Olympus"})
    assert "no time zone" in wrong.content.decode()
    assert (
        boss.post(club, {"name": "Tarn Club", "zone": "Europe/Oslo"}).status_code == 302
    )
