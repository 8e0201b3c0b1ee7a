"""Batteries that stay joined for an event: one in plans, in the log and in files."""

import pytest
from django.urls import reverse

from hollow_kettle.field.forms import SwapForm
from hollow_kettle.field.queries import board_of
from hollow_kettle.field.services import log_swap
from hollow_kettle.plan.events.services import choose_batteries, set_state
from hollow_kettle.plan.files.copies import copy_event, next_year
from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.files.imports import import_scenario
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.rotation.forms import PinForm
from hollow_kettle.plan.rotation.queries import tags_of
from hollow_kettle.shelf.assets.services import save_battery


@pytest.fixture
def join(event, boss, shelf):
    """Ask the page to join batteries by their tags."""

    def asked(*tags):
        keys = [shelf[tag].pk for tag in tags]
        return boss.post(
            reverse("plan:batteries_join", args=[event.pk]), {"join": keys}, follow=True
        )

    return asked


def words(response):
    """The page's text in one line."""
    return " ".join(response.content.decode().split())


def test_a_set_moves_as_one(event, esker, marin, shelf, boss, join):
    """It is planned, drawn, logged by any of its tags, and taken apart again."""
    page = join("K01", "K02")
    assert "K01+K02 moves as one" in words(page)
    rotation = making.make_rotation(event, by=marin)
    lead, other = shelf["K01"].pk, shelf["K02"].pk

    moved = set(rotation.legs.values_list("battery", flat=True))
    assert lead in moved
    assert other not in moved
    tags = tags_of(rotation)
    assert tags[lead] == "K01+K02"
    board = board_of(event, event.clock.now())
    assert [one.tag for one in board.batteries] == ["K01+K02", "K03", "K04"]
    for said in ("k02", "K1", "K01+K02"):
        form = SwapForm(
            {"tag": said, "station": esker.pk, "uid": event.pk}, event=event
        )
        assert form.is_valid(), form.errors
        assert form.battery("tag").pk == lead
    offered = PinForm(event=event).fields["battery"].choices
    options = [str(label) for _, label in offered][1:]
    assert options == ["K01+K02", "K03", "K04"]

    page = boss.post(
        reverse("plan:batteries_apart", args=[event.pk, lead]), follow=True
    )
    assert "K01+K02 is taken apart" in words(page)
    assert len(board_of(event, event.clock.now()).batteries) == 4
    assert tags_of(rotation)[lead] == "K01+K02"  # as it was planned


def test_what_must_not_be_joined_is_said_and_the_choice_stays(
    event, marin, shelf, boss, join
):
    """One alone, another chemistry, on hold, in a set already, in use by now."""
    shelf["A01"] = save_battery(
        None, by=marin, tag="A01", chemistry="agm", series=6, nameplate_ah=20.0
    )
    event.batteries.add(shelf["A01"])

    alone = join("K01")
    assert alone.status_code == 422
    assert "of 2 to 6 different batteries" in words(alone)
    assert f'value="{shelf["K01"].pk}" checked' in words(alone)
    assert "different chemistries" in words(join("K01", "A01"))
    assert "K04 is on hold: swollen" in words(join("K01", "K04"))
    assert not event.joined.exists()
    join("K01", "K02")
    assert "is in a set already" in words(join("K02", "K03"))
    assert "is a set already" in words(join("K01", "K03"))
    assert event.joined.count() == 1


def test_a_set_goes_along_in_files_and_copies_and_falls_apart_with_its_lead(
    event, marin, shelf, join
):
    """The same set in the event again and next year; none without its first."""
    join("K01", "K02")
    content = export_scenario(event)
    again = import_scenario(content, by=marin)
    copy = copy_event(event, name="Bog Walk again", starts=next_year(event))
    for one in (again, copy):
        assert list(one.set_tags.values()) == ["K01+K02"]

    choose_batteries(event, [shelf["K02"].pk, shelf["K03"].pk])
    assert not event.joined.exists()


def test_under_way_what_is_in_use_is_brought_in_first(event, esker, marin, shelf, join):
    """A battery that serves is not joined to one in the yard."""
    set_state(event, state=Event.State.RUNNING)
    log_swap(event, esker, battery=shelf["K01"], by=marin, at=event.clock.now())

    assert "K01 is in use at" in words(join("K01", "K02"))
    set_state(event, state=Event.State.CLOSED)
    assert "The event is over" in words(join("K02", "K03"))


def test_a_rotation_from_before_is_still_told_by_its_own_tags(event, marin, join):
    """What moves singly in the published rotation has a name on the board."""
    made = making.make_rotation(event, by=marin)
    rotations.publish(made)
    join("K02", "K03")
    event.refresh_from_db()

    moves = [one.move for one in board_of(event, event.moment_of(1)).moves]

    assert moves
    assert not any("?" in (move.bring, move.bring_back) for move in moves)


def test_a_set_that_became_unlike_is_planned_singly_and_said(event, shelf, boss, join):
    """Its numbers on the shelf were put right afterwards."""
    join("K01", "K02")
    battery = shelf["K02"].battery
    battery.series = 8
    battery.save()

    page = words(boss.get(reverse("plan:batteries", args=[event.pk])))

    assert "no longer alike: planned singly" in page
    assert "Take K01+K02 apart" in page
    assert len(board_of(event, event.clock.now()).batteries) == 4
