"""The demo club: physically made, consistent but for what is planted."""

import io
from datetime import timedelta

import pytest
from pypdf import PdfReader

from hollow_kettle.debrief.page import report_of
from hollow_kettle.demo.history import TRUE_AH
from hollow_kettle.field.queries import board_of
from hollow_kettle.log.models import Conflict, FieldEntry, Standing
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import Event, Rotation
from hollow_kettle.shelf.charge.queries import shelf_batteries
from hollow_kettle.shelf.kits.page import kit_page
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.prints.paper import kit_card
from powercore.rotation.verify import verify

pytestmark = pytest.mark.django_db


def test_it_has_what_a_newcomer_should_see(demo):
    """16 batteries of mixed chemistry, one tired, mislabelled, lent, on hold."""
    shelf = {item.asset.tag: item for item in shelf_batteries()}

    assert len(shelf) == 16
    assert len({item.pack.chemistry for item in shelf.values()}) >= 3
    assert shelf["K09"].pack.trusted_ah < 0.7 * shelf["K09"].pack.nameplate_ah
    assert TRUE_AH["K10"] < 0.7 * shelf["K10"].pack.trusted_ah
    assert "lent" in shelf["K15"].asset.owner
    assert shelf["K16"].asset.hold
    assert sorted(Event.objects.values_list("state", flat=True)) == [
        "closed", "planned", "running",
    ]  # fmt: skip


def test_a_kit_that_left_with_stops_names_who_took_them_on_one_card(demo):
    """Four of Drumlin's stops, each with its reason, on one A6 page."""
    page = kit_page(Asset.objects.get(tag="Q01"))
    paper = PdfReader(io.BytesIO(kit_card(page, "a6")))
    words = " ".join(paper.pages[0].extract_text().split())

    assert len(paper.pages) == 1
    assert words.count("Accepted by Marin") == 4
    assert "calling at 100 W" in words


def test_published_rotations_pass_the_verifier(demo):
    """Each was made for its event and breaks no rule."""
    published = Rotation.objects.filter(state=Rotation.State.PUBLISHED)

    assert published.count() == 2
    for rotation in published:
        problem, legs = problem_of(rotation)
        assert verify(problem, legs).broken == ()


def test_its_log_folds_without_contradiction_but_the_planted(demo):
    """One misheard swap and one unknown tag; a second report is merged silently."""
    assert list(Conflict.objects.values_list("kind", flat=True)) == [
        "swap_reports_differ"
    ]
    aside = FieldEntry.objects.exclude(standing=Standing.KEPT)
    assert [entry.raw["tag"] for entry in aside] == ["K21"]


def test_its_clock_stands_at_hour_nine(demo):
    """Or at the last entry of the log, if that is later."""
    field_day = Event.objects.get(state=Event.State.RUNNING)
    hours = (field_day.clock.now() - field_day.starts_at) / timedelta(hours=1)

    assert 9.0 <= hours < 9.2
    assert (field_day.starts_at.month, field_day.span_min) == (6, 24 * 60)


def test_the_board_accounts_for_every_battery(demo):
    """Sixteen, whatever they do."""
    field_day = Event.objects.get(state=Event.State.RUNNING)
    board = board_of(field_day, field_day.clock.now())

    assert sum(count for _, count in board.counts) == len(board.batteries) == 16
    assert len(board.stations) == 6
    assert all(line.battery for line in board.stations)


def test_the_finished_exercise_had_real_trouble(demo):
    """Off the air, low power, shed, and into reserve; the mislabelled pack shows."""
    exercise = Event.objects.get(state=Event.State.CLOSED)
    report = report_of(exercise, exercise.ends_at)

    assert {fall.what for fall in report.falls.every} == {
        "off_air", "low_power", "shed", "reserve",
    }  # fmt: skip
    assert any("K10 quit" in line.note for line in report.harm)
    assert 30 < report.off_min < 300
    for line in report.stations:
        assert line.used_wh < 1.5 * line.planned_wh
