"""Looking for a better rotation: kept, told of, stopped, taken up again."""

import subprocess
import time
from datetime import timedelta
from io import BytesIO
from types import SimpleNamespace

import pytest
from asgiref.sync import async_to_sync
from django.core.exceptions import ValidationError
from django.db import connection
from django.urls import reverse
from icalendar import Calendar
from procrastinate.contrib.django import app
from pypdf import PdfReader

from hollow_kettle.clock import real_now
from hollow_kettle.plan import tasks
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.bridge.scenario import scenario_from
from hollow_kettle.plan.models import Leg, Rotation, Search
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.rotation.moves import moves_of
from hollow_kettle.plan.rotation.queries import tags_of
from hollow_kettle.plan.yard.services import add_bay
from powercore.event.problem import SERVE, WAIT, YARD, Problem
from powercore.event.problem import Leg as CoreLeg
from powercore.rotation.timetable import PATIENCE
from powercore.rotation.verify import verify


@pytest.fixture
def poor(event, marin):
    """A draft in which each station keeps its first battery and nobody walks."""
    draft = making.make_rotation(event, by=marin)
    problem = Problem(scenario_from(draft.snapshot))
    legs, free = [], [k for k, b in problem.batteries.items() if not b.is_on_hold]
    for station in problem.stations:
        able = [k for k in free if problem.feed(station, k).refusal is None]
        smallest = min(able, key=lambda k: problem.feed(station, k).capacity_wh)
        free.remove(smallest)
        legs.append(whole(SERVE, smallest, station, problem))
    legs += [whole(WAIT, key, YARD, problem) for key in free]
    return rotations.keep(draft, problem, legs)


def whole(kind, battery, place, problem):
    """One leg for the whole event."""
    return CoreLeg(
        kind=kind, battery=battery, place=place, start_min=0, end_min=problem.span_min
    )


@pytest.fixture
def look(monkeypatch, marin):
    """Ask for a search without a worker, and run its task when told to."""
    monkeypatch.setattr(rotations, "hand_over", lambda *_, **ids: None)
    return lambda rotation: rotations.look_for_better(rotation, by=marin)


@pytest.fixture
def stops_at_once(monkeypatch):
    """A search is asked to stop at its first gain."""
    keep_better = rotations.keep_better

    def keep_and_stop(found, *rotation):
        Search.objects.filter(pk=found.pk).update(is_stop_asked=True)
        return keep_better(found, *rotation)

    monkeypatch.setattr(rotations, "keep_better", keep_and_stop)


def test_a_search_keeps_what_it_finds_as_a_draft_that_breaks_no_rule(poor, look):
    """Run in its child process, to its end; the plan it began with stays."""
    before = poor.legs.count()
    search = look(poor)

    tasks.search(search_id=search.pk)

    search.refresh_from_db()
    assert search.state == Search.State.DONE
    assert search.passes >= search.since >= PATIENCE
    problem, legs = problem_of(search.best)
    assert verify(problem, legs).is_valid
    assert search.best.state == Rotation.State.DRAFT
    assert search.best.number == poor.number + 1
    assert search.best.off_air_min < poor.off_air_min
    assert poor.legs.count() == before


def test_a_search_may_go_to_low_power_and_says_so(
    poor, look, boss, stops_at_once, monkeypatch
):
    """Nobody walks: low power is the only cure; board, compare and sheet tell of it."""
    poor.event.crews.filter(does="walks").delete()
    poor.event.stations.update(draws=1.2)
    monkeypatch.setattr(rotations, "hand_over", lambda *_, **ids: None)
    poor = making.make_rotation(poor.event, by=poor.made_by)
    asked = {"margin": "futures", "may_lower": "on"}
    boss.post(reverse("plan:search_add", args=[poor.event_id, poor.number]), asked)
    search = Search.objects.get(event=poor.event)

    tasks.search(search_id=search.pk)

    search.refresh_from_db()
    best = search.best
    problem, _ = problem_of(best)
    assert best.off_air_min < poor.off_air_min
    assert search.risk_min < search.risk_start_min
    assert best.low_min > poor.low_min == 0
    assert problem.scenario.steps
    args = [best.event_id, best.number]
    page = boss.get(reverse("plan:rotation_detail", args=args)).content.decode()
    assert "chosen by the search" in page
    assert "risk in futures" in page
    sheet = boss.get(reverse("plan:round_sheet", args=args)).content
    text = "".join(page.extract_text() for page in PdfReader(BytesIO(sheet)).pages)
    assert "Low power at" in text
    # Another search, which may not choose, keeps them.
    again = look(best)
    assert scenario_from(again.rotation.snapshot).steps == problem.scenario.steps


def test_one_search_at_a_time_and_it_can_be_stopped(poor, look, boss):
    """A second is refused with words; stopping one that waits ends it at once."""
    search = look(poor)
    with pytest.raises(ValidationError, match="stop that search first"):
        look(poor)
    page = reverse("plan:rotation_detail", args=[poor.event_id, poor.number])
    assert "Waiting for its turn" in boss.get(page).content.decode()

    boss.post(reverse("plan:search_stop", args=[poor.event_id, search.pk]))
    tasks.search(search_id=search.pk)

    search.refresh_from_db()
    assert (search.state, search.passes) == (Search.State.STOPPED, 0)
    assert "Nothing better" in boss.get(page).content.decode()


def test_a_search_asked_to_stop_keeps_its_best(poor, look, stops_at_once):
    """It is asked after its first gain."""
    search = look(poor)

    tasks.search(search_id=search.pk)

    search.refresh_from_db()
    assert search.state == Search.State.STOPPED
    assert search.passes == 1
    assert search.best is not None


def test_what_was_published_meanwhile_is_left_alone(poor, look):
    """A draft that became the plan is not changed under anybody's feet."""
    search = look(poor)
    _, legs = problem_of(poor)
    assert rotations.keep_better(search, legs)
    rotations.publish(search.best)
    kept = list(Leg.objects.filter(rotation=search.best).values_list("pk"))

    assert not rotations.keep_better(search, legs)
    assert list(Leg.objects.filter(rotation=search.best).values_list("pk")) == kept


def test_a_killed_workers_search_is_taken_up_again(poor, look):
    """Silent for longer than a pass can take: it waits for a worker once more."""
    search = look(poor)
    Search.objects.filter(pk=search.pk).update(
        state=Search.State.RUNNING, heard_at=real_now() - timedelta(minutes=5)
    )

    assert rotations.take_up_silent() == 1

    search.refresh_from_db()
    assert search.state == Search.State.WAITING


def test_a_killed_workers_trial_is_begun_anew(poor):
    """A job whose worker is gone waits once more; one with a living worker does not."""
    rotations.try_futures(poor)
    states = []

    def state_of(sql):
        with connection.cursor() as cursor:
            cursor.execute(sql)
            async_to_sync(tasks.take_up_trials.func)(SimpleNamespace(app=app), 0)
            cursor.execute(
                "select status from procrastinate_jobs where task_name like '%trial'"
            )
            states.append(cursor.fetchone()[0])

    state_of("insert into procrastinate_workers (last_heartbeat) values (now())")
    state_of(
        "update procrastinate_jobs set status = 'doing',"
        " worker_id = (select id from procrastinate_workers)"
    )
    state_of("update procrastinate_workers set last_heartbeat = now() - interval '1 h'")

    assert states == ["todo", "doing", "todo"]


def test_a_broken_rule_from_the_child_is_never_kept(poor, look):
    """What is not valid is nobody's plan."""
    search = look(poor)
    _, legs = problem_of(poor)

    with pytest.raises(ValidationError, match="battery_forgotten"):
        rotations.keep_better(search, legs[1:])

    search.refresh_from_db()
    assert search.best is None


def test_a_rotation_is_tried_in_many_futures_once(poor, boss, monkeypatch):
    """Asked for on the board, worked out by the worker, shown with who and when."""
    asked = []
    monkeypatch.setattr(rotations, "hand_over", lambda _, **ids: asked.append(ids))
    url = reverse("plan:trial_add", args=[poor.event_id, poor.number])
    boss.post(url)
    boss.post(url)
    assert len(asked) == 1
    page = reverse("plan:rotation_detail", args=[poor.event_id, poor.number])
    assert "Trying it in 1,000 futures" in boss.get(page).content.decode()

    tasks.trial(**asked[0])

    shown = boss.get(page).content.decode()
    assert "Everybody uses 20 % more" in shown
    assert "Weak point: <b>Esker</b>" in shown or "Weak point: <b>Drumlin</b>" in shown
    assert "What would help?" in shown
    for _ in range(2):
        boss.post(reverse("plan:cures_add", args=[poor.event_id, poor.number]))
    assert len(asked) == 2
    tasks.cures(**asked[1])
    shown = boss.get(page).content.decode()
    assert "The same things, planned for" in shown
    _, legs = problem_of(poor)
    rotations.keep(poor, Problem(scenario_from(poor.snapshot)), legs)
    assert "Not tried yet" in boss.get(page).content.decode()


def test_the_coming_hour_of_a_running_event_is_left_alone(poor):
    """Two hours in, a search keeps the first three; before the start, nothing."""
    assert rotations.kept_until_min(poor) == pytest.approx(180, abs=1)
    poor.event.state = "planning"
    assert rotations.kept_until_min(poor) == 0


def test_paper_and_calendar_say_every_walk_of_the_rotation(event, marin, boss):
    """Round sheet, slips and calendar have the moves of the board, in local time."""
    draft = making.make_rotation(event, by=marin)
    moves = moves_of(event, draft, tags_of(draft))
    problem, legs = problem_of(draft)
    rounds = {(move.crew, move.round) for move in moves}
    assert len(rounds) == verify(problem, legs).outcome.walks > 0

    def get(name, query=""):
        page = reverse(f"plan:{name}", args=[event.pk, draft.number])
        answer = boss.get(page + query)
        assert answer.status_code == 200
        return answer.content

    for name in ("round_sheet", "slips"):
        pages = PdfReader(BytesIO(get(name))).pages
        words = " ".join(page.extract_text() for page in pages)
        for move in moves:
            assert f"{move.leave:%H:%M}" in words
            assert move.station.name in words
            assert move.bring in words
    for query, count in (("", 1), ("?size=letter", 2), ("?size=wall", 1)):
        pages = PdfReader(BytesIO(get("wall_board", query))).pages
        assert len(pages) == count
        words = " ".join(page.extract_text() for page in pages)
        assert all(station.name in words for station in event.stations.all())
        assert {move.bring for move in moves} <= set(words.split())
    # Many lanes stand upright on as many sheets.
    source = event.bays.first().source
    for n in range(14):
        add_bay(
            event, name=f"Bay X{n}", source=source, max_w=60, chemistries=["lifepo4"]
        )
    for query, count in (("", 1), ("?size=letter", 2)):
        pages = PdfReader(BytesIO(get("wall_board", query))).pages
        assert len(pages) == count
        assert "X13" in " ".join(page.extract_text() for page in pages)
    entries = Calendar.from_ical(get("calendar")).walk("VEVENT")
    assert [entry["dtstart"].dt for entry in entries] == [m.leave for m in moves]
    assert moves[0].bring in entries[0]["summary"]


def test_a_bar_says_why_its_battery_and_why_now(event, marin, boss):
    """What skipping its walk costs, and which battery would be second best."""
    draft = making.make_rotation(event, by=marin)
    move = moves_of(event, draft, tags_of(draft))[0]
    leg = draft.legs.get(kind=SERVE, battery=move.battery, start_min__gt=0)

    url = reverse("plan:leg_why", args=[event.pk, draft.number, leg.pk])
    words = boss.get(url).content.decode()

    assert f"Why {move.bring} at {move.station.name}" in words
    assert f'Relieves <b class="mono">{move.bring_back}</b>' in words
    assert "Skipping this walk costs" in words


def test_a_plan_made_at_once_is_gone_on_from_and_says_what_changed(client, poor):
    """In its place while nobody touched it; else as a draft of its own, if better."""
    event, marin = poor.event, poor.made_by
    client.force_login(marin.user)
    problem, legs = problem_of(poor)
    board = reverse("plan:rotation_detail", args=[event.pk, poor.number])
    assert "This is the first start" in client.get(board).content.decode()
    before = poor.off_air_min

    tasks.work_out_further.func(poor.pk)

    poor.refresh_from_db()
    page = client.get(board).content.decode()
    assert poor.off_air_min < before == poor.was["off_air_min"]
    assert verify(*problem_of(poor)).is_valid
    assert "Worked out further since it was first shown" in page
    assert "This is the first start" not in page

    taken_up = rotations.keep(making.make_rotation(event, by=marin), problem, legs)
    rotations.publish(taken_up, by=marin)
    tasks.work_out_further.func(taken_up.pk)
    (draft,) = taken_up.changed_to.all()
    page = client.get(reverse("plan:rotation", args=[event.pk])).content.decode()
    assert list(problem_of(taken_up)[1]) == list(legs)
    assert (draft.state, draft.off_air_min) == ("draft", poor.off_air_min)
    assert f"draft {draft.number}</a>" in page


def test_a_search_says_that_it_lives_and_stops_within_a_long_pass(
    transactional_db, poor, look, monkeypatch
):
    """Its child says nothing until a pass ends, which may take minutes."""
    monkeypatch.setattr(tasks, "BEAT_S", 0.05)
    search = look(poor)
    with subprocess.Popen(["sleep", "60"], text=True) as child:
        beat = tasks._Beat(search, child)
        beat.start()
        for _ in range(100):
            time.sleep(0.05)
            search.refresh_from_db()
            if search.heard_at:
                break
        assert search.heard_at is not None
        assert child.poll() is None
        rotations.stop_looking(search)
        child.wait(timeout=10)
        beat.end()
    assert beat.has_stopped
