"""Corrective actions: from a debrief to the Shelf and into the next plan."""

from datetime import date

from django.urls import reverse

from hollow_kettle.shelf.models import Action
from tests.conftest import set_clock

SAID = {
    "words": "crimp the plug of the lead anew", "due_on": "2026-09-01",
    "station": "Drumlin", "asset": "k02", "evidence": "45 min off the air",
}  # fmt: skip


def test_an_action_goes_from_the_debrief_to_the_shelf_and_the_next_plan(
    event, shelf, people, client_of
):
    """It needs an owner, a date and a tag that exists; then it stands on the plan."""
    set_clock(event, 480)
    boss, url = client_of("coordinator"), reverse("debrief:action_add", args=[event.pk])
    shown = boss.get(f"{url}?words=Mend+it&station=Drumlin").content.decode()
    assert 'value="Mend it"' in shown

    wrong = boss.post(url, SAID | {"asset": "K99", "due_on": "1 Sep"})
    text = wrong.content.decode()
    assert wrong.status_code == 422
    assert "Nothing on the shelf has the tag K99." in text
    assert "Write the date like 2026-09-01." in text
    assert "This field is required" in text  # who does it
    assert 'value="45 min off the air"' in text
    boss.post(url, SAID | {"owner": people["logger"].pk})

    action = Action.objects.get()
    assert (action.event_name, action.asset.tag) == ("Bog Walk", "K02")
    assert action.due_on == date(2026, 9, 1)
    plan = boss.get(event.get_absolute_url()).content.decode()
    assert "crimp the plug of the lead anew" in plan
    assert "Logger, until 1 Sep" in plan


def test_its_owner_says_when_it_is_done(event, people, client_of):
    """Nobody else but a coordinator may; what was done has to be said."""
    action = Action.objects.create(
        words="test K01", due_on=date(2026, 1, 1), owner=people["logger"]
    )
    end = reverse("shelf:action_end", args=[action.pk])
    done = {"state": "done", "outcome": "17.2 Ah"}

    assert client_of("runner").post(end, done).status_code == 403
    client_of("logger").post(end, {"state": "done", "outcome": ""})
    assert Action.objects.get().is_open
    page = client_of("observer").get(reverse("shelf:action_list")).content.decode()
    assert ">late</span>" in page
    client_of("logger").post(end, done)

    assert Action.objects.get().outcome == "17.2 Ah"
    client_of("coordinator").post(reverse("shelf:action_reopen", args=[action.pk]))
    assert Action.objects.get().is_open


def test_what_comes_back_from_several_events_is_a_theme(event, shelf, client_of):
    """Two events about K01 are a theme, two actions of one event are not."""
    for name, tag in (("Spring", "K01"), ("Summer", "K01"), ("Summer", "K02")):
        Action.objects.create(
            words="test it", due_on=date(2026, 9, 1), event_name=name, asset=shelf[tag]
        )
    page = client_of("observer").get(reverse("shelf:action_list")).content.decode()

    assert "<b>K01</b>: 2 actions from 2 events" in page
    assert "<b>K02</b>" not in page
