"""Spares that wait at a station: planned, drawn, on paper, noted, planned from."""

from io import BytesIO

import pytest
from django.urls import reverse
from icalendar import Calendar
from pypdf import PdfReader

from hollow_kettle.field import queries as field
from hollow_kettle.field import services as field_services
from hollow_kettle.plan.bridge.scenario import scenario_from, scenario_of
from hollow_kettle.plan.models import Station
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.rotation.moves import moves_of
from hollow_kettle.plan.rotation.pages.board import board_of
from hollow_kettle.plan.rotation.queries import tags_of
from powercore.event.problem import SERVE, WAIT, YARD, Leg, Problem

SWAP_MIN = 240


@pytest.fixture
def with_spare(event, esker, marin):
    """A draft: Esker's spare is there from the start, its operators swap halfway."""
    Station.objects.filter(pk=esker.pk).update(spares=1)
    draft = making.make_rotation(event, by=marin)
    problem = Problem(scenario_from(draft.snapshot))
    span, own = problem.span_min, str(esker.pk)
    free = [key for key, one in problem.batteries.items() if not one.is_on_hold]
    able = [key for key in free if problem.feed(own, key).refusal is None]
    first, second = able[:2]

    def leg(kind, battery, place, start, end):
        return Leg(
            kind=kind, battery=battery, place=place, start_min=start, end_min=end
        )

    legs = [
        leg(SERVE, first, own, 0, SWAP_MIN),
        leg(WAIT, first, own, SWAP_MIN, span),
        leg(WAIT, second, own, 0, SWAP_MIN),
        leg(SERVE, second, own, SWAP_MIN, span),
    ]
    rest = [key for key in free if key not in (first, second)]
    legs += [leg(WAIT, key, YARD, 0, span) for key in rest]
    return rotations.keep(draft, problem, legs)


def tag(event, leg):
    """The tag of a leg's battery."""
    return tags_of(leg.rotation)[leg.battery]


def test_a_swap_with_a_spare_is_on_the_board_on_paper_and_in_the_calendar(
    with_spare, event, esker, boss
):
    """Nobody walks; the operators have a slip of their own."""
    new, old = with_spare.legs.filter(kind=SERVE, place=esker.pk).order_by("-start_min")
    (move,) = moves_of(event, with_spare, tags_of(with_spare))

    assert with_spare.walks == 0
    assert move.is_swap
    assert (move.bring, move.bring_back) == (tag(event, new), tag(event, old))
    assert event.minute_of(move.arrive) == SWAP_MIN
    board = board_of(event, with_spare, None)
    lane = next(one for one in board.lanes if one.name == "Esker")
    spares = [bar for bar in lane.bars if bar.kind == "spare"]
    assert {bar.tag for bar in spares} == {move.bring, move.bring_back}
    assert all(
        lane.middle < bar.y and bar.y + bar.height <= lane.foot for bar in spares
    )
    page = reverse("plan:rotation_detail", args=[event.pk, with_spare.number])
    assert "operators swap, nobody walks" in boss.get(page).content.decode()
    for name, said in (
        ("round_sheet", "stays there"),
        ("slips", "Swap for yourselves at"),
    ):
        paper = boss.get(reverse(f"plan:{name}", args=[event.pk, with_spare.number]))
        (sheet,) = PdfReader(BytesIO(paper.content)).pages
        words = " ".join(sheet.extract_text().split())
        assert said in words
        assert move.bring in words
    answer = boss.get(reverse("plan:calendar", args=[event.pk, with_spare.number]))
    (entry,) = Calendar.from_ical(answer.content).walk("VEVENT")
    assert entry["summary"].startswith(f"operators: {move.bring} in at Esker")


def test_a_spare_is_noted_where_it_waits_and_planned_from_there(
    with_spare, event, esker, marin
):
    """Set-up, the board's next move, and a plan from now on know of it."""
    rotations.publish(with_spare)
    field_services.note_set_up(event, by=marin)
    now = event.clock.now()
    line = next(s for s in field.board_of(event, now).stations if s.station == esker)

    from_now = scenario_of(event, at=now)

    assert line.move.is_swap
    (spare,) = [one for one in from_now.batteries if one.is_spare]
    assert (spare.start_place, spare.tag) == (str(esker.pk), line.move.bring)
    Station.objects.filter(pk=esker.pk).update(spares=0)
    without_room = scenario_of(event, at=now)
    assert not any(one.is_spare for one in without_room.batteries)

    new = event.batteries.get(tag=line.move.bring)
    field_services.log_swap(event, esker, battery=new, by=marin, at=now)
    line = next(s for s in field.board_of(event, now).stations if s.station == esker)
    assert (line.battery.tag, line.move) == (spare.tag, None)


def test_how_many_spares_are_kept_is_asked_with_its_range(event, esker, boss):
    """Out of range it names field and range; in range the page says it."""
    edit = reverse("plan:station_edit", args=[event.pk, esker.pk])
    asked = {"name": "Esker", "tier": "1", "changeover_s": "120", "walk_min": "5"}

    refused = boss.post(edit, {**asked, "spares": "21"}).content.decode()
    kept = boss.post(edit, {**asked, "spares": "2"}, follow=True).content.decode()

    assert "Spares kept there must be between 0 and 20" in refused
    assert "Up to 2 batteries may wait there" in kept
    esker.refresh_from_db()
    assert esker.spares == 2
