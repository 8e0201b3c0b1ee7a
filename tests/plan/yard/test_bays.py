"""A bay of an event that names a charger of the shelf."""

from __future__ import annotations

from datetime import timedelta

import pytest
from django.urls import reverse

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.files.copies import copy_event
from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.files.imports import import_scenario
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.shelf.assets.services import save_asset, save_battery, set_hold
from hollow_kettle.shelf.kinds import KINDS
from tests.conftest import NOON
from tests.plan.test_pages import text

pytestmark = pytest.mark.django_db


@pytest.fixture
def charger(marin):
    """10 A, set for LiFePO4, for four cells."""
    return save_asset(
        KINDS["charger"],
        None,
        by=marin,
        tag="C01",
        name="ten-amp charger",
        max_a=10.0,
        absorb_v=14.4,
        setting="lifepo4",
        series="4",
    )


def test_the_charger_of_the_shelf_decides_on_the_bay(event, boss, marin, charger):
    """Watts, chemistries, cells come from it; a change of it reaches the plan."""
    big = save_battery(
        None, by=marin, tag="K24", chemistry="lifepo4", series=8, nameplate_ah=20.0,
        tested_ah=19.0, protection="common",
    )  # fmt: skip
    event.batteries.add(big)
    bay = event.bays.get()
    where = reverse("plan:bay_edit", args=[event.pk, bay.pk])
    values = {"name": "Bay 1", "source": bay.source_id, "unwatched_why": ""}

    empty = boss.post(where, values)
    assert "Give it, or choose a charger of the shelf." in text(empty)
    sent = values | {"charger": charger.pk, "max_w": "999", "chemistries": ["agm"]}
    assert boss.post(where, sent).status_code == 302

    page = text(boss.get(reverse("plan:yard", args=[event.pk])))
    assert "C01 ten-amp charger" in page
    assert "10 A, up to 144 W" in page
    assert "K24: never: made for 4 cells in series, this has 8" in page
    problem = problem_for(event).problem
    bay_key = str(bay.pk)
    assert problem.bay_refusal(bay_key, str(big.pk)) == (
        "C01: made for 4 cells in series, this has 8"
    )
    rotation = make_rotation(event, by=marin)
    charged = {leg.battery for leg in rotation.legs.filter(kind="charge")}
    assert big.pk not in charged

    set_hold(charger, because="smells")
    problem = problem_for(event).problem
    assert all("on hold: smells" in problem.bay_refusal(bay_key, key)
               for key in problem.batteries)  # fmt: skip


def test_a_charger_stands_on_one_bay_of_an_event(event, boss, charger):
    """A second bay with it is refused in words, and nothing is kept."""
    source = event.sources.get()
    values = {"source": source.pk, "charger": charger.pk, "unwatched_why": ""}
    where = reverse("plan:bay_add", args=[event.pk])
    assert boss.post(where, values | {"name": "Bay 2"}).status_code == 302

    again = boss.post(where, values | {"name": "Bay 3"})

    assert "C01 is on Bay 2 already" in text(again)
    assert event.bays.filter(charger=charger).count() == 1


def test_the_charger_goes_along_in_copies_and_files(event, marin, charger):
    """By its tag; a club without it gets what was worked out from it, as typed."""
    event.bays.update(charger=charger, max_w=None, chemistries="")
    copy = copy_event(event, name="Next", starts=NOON + timedelta(days=364))
    assert copy.bays.get().charger == charger

    content = export_scenario(event)
    again = import_scenario(content, by=marin, is_template=True)
    assert again.bays.get().charger == charger
    charger.tag = "C99"
    charger.save()
    other = import_scenario(content, by=marin, is_template=True).bays.get()
    assert (other.charger, other.max_w, other.chemistries) == (None, 144, "lifepo4")
