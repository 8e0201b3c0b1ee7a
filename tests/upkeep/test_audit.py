"""Who changed accounts, roles, passes, plans and what counts of the log."""

from datetime import timedelta

from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.field import services as field
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people.models import Actor, Deed
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.upkeep import audit

URL = reverse("upkeep:audit_list")


def told(client):
    """The page's lines as who, what and where."""
    rows = client.get(URL).context["lines"]
    return [(line.who, line.what, line.where) for _, line in rows]


def test_what_the_coordinator_does_to_accounts_is_told(boss, marin, people):
    """Added, given a link, closed, and the club's name; by whom, and to whom."""
    Deed.objects.all().delete()
    secret = "granite-and-bracken"
    person = {"username": "tern", "name": "Tern", "password": secret}
    boss.post(reverse("people:person_add"), person)
    tern = Actor.objects.get(name="Tern")
    boss.post(reverse("people:person_link", args=[tern.pk]))
    boss.post(reverse("people:person_close", args=[tern.pk]))
    boss.post(reverse("people:club_edit"), {"name": "Hilltop", "zone": "UTC"})

    assert told(boss) == [
        ("Marin", "changed the club's name or time zone", ""),
        ("Marin", "closed an account: Tern", ""),
        ("Marin", "made a link for a new password: Tern", ""),
        ("Marin", "added a person: Tern", ""),
    ]
    page = boss.get(URL).content.decode()
    assert "the club" in page
    assert secret not in page


def test_roles_passes_plans_and_strikes_are_told_with_their_event(
    boss, marin, event, esker, people
):
    """In one list, the latest first, whatever room they were done in."""
    Deed.objects.all().delete()
    runner = people["runner"]
    boss.post(
        reverse("plan:duties", args=[event.pk]), {"actor": runner.pk, "role": "logger"}
    )
    boss.post(
        reverse("plan:pass_list", args=[event.pk]), {"role": "observer", "hours": "4"}
    )
    rotations.publish(make_rotation(event, by=marin), by=marin)
    at = event.starts_at
    field.log_station(event, esker, what="off_air", by=runner, at=at)
    entry = FieldEntry.objects.latest("pk")
    field.strike(event, entry, because="it was Drumlin", by=marin, at=at)

    found = told(boss)
    struck = "struck Runner's “off the air”: it was Drumlin"
    assert found[0] == ("Marin", struck, "Bog Walk")
    whats = [what for _, what, _ in found]
    assert "rotation 1 published" in whats
    assert any("pass: observer for 4 h" in what for what in whats)
    assert any("is logger" in what for what in whats)


def test_a_long_history_is_told_page_by_page(
    boss, marin, event, monkeypatch, django_assert_max_num_queries
):
    """Every line once, and no more questions to the database for more lines."""
    monkeypatch.setattr(audit, "LINES", 7)
    Deed.objects.all().delete()
    for number in range(20):
        note(event, marin, f"change {number}")
        Deed.objects.create(
            kind=Deed.Kind.LINK, by=marin, at=real_now() - timedelta(days=number)
        )
    seen, query = [], {}
    while query is not None:
        with django_assert_max_num_queries(9):
            page = boss.get(URL, query)
        seen += [(line.at, line.what) for _, line in page.context["lines"]]
        older = page.context["older"]
        query = {"before": older} if older else None
    assert len(seen) == len(set(seen)) >= 40
    assert seen == sorted(seen, key=lambda line: line[0], reverse=True)
    assert boss.get(URL, {"before": "yesterday"}).status_code == 200
