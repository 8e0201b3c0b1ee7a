"""Moves told and left, stand-down and all-clear, and the page for the next watch."""

import re
from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse

from hollow_kettle.field import queries, services
from hollow_kettle.log.models import FieldEntry, Place
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.bridge.scenario import scenario_from
from hollow_kettle.plan.events.services import save_event
from hollow_kettle.plan.models import OperatingPattern
from hollow_kettle.plan.rotation.following import moves_now
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.moves import moves_of
from hollow_kettle.plan.stations.services import add_equipment, add_hours, save_station
from hollow_kettle.plan.yard.services import add_bay
from hollow_kettle.shelf.assets.services import save_battery
from hollow_kettle.shelf.models import EquipmentType
from powercore.event.plans import YARD
from tests.conftest import NOON, set_clock


def board(event):
    return queries.board_of(event, event.clock.now())


@pytest.fixture
def move(under_way):
    """The first walk that brings a battery, an hour before it leaves."""
    found = next(m for m in board(under_way).moves if not m.move.is_swap).move
    minute = under_way.minute_of(found.leave) - 60
    set_clock(under_way, minute)
    return found


@pytest.fixture
def tap(under_way, move, client_of):
    """Tap a button of a move, as somebody does."""

    def tapped(what, role="runner"):
        url = reverse("field:move_state", args=[under_way.pk])
        sent = {"what": what, "station": move.station.pk, "battery": move.battery}
        return client_of(role).post(url, sent, follow=True)

    return tapped


def progress(event, move):
    return next((m for m in board(event).moves if m.move.battery == move.battery), None)


def test_a_move_is_told_left_and_delivered(under_way, move, tap, marin, shelf):
    """The board says how far it is; a battery that left is on the way."""
    assert progress(under_way, move).asks == ("told", "Told")
    tap("told")
    assert progress(under_way, move).asks == ("left", "Left")
    assert "left" in tap("left").content.decode()
    one = progress(under_way, move)
    assert one.told is not None
    assert one.left is not None
    assert one.asks is None
    (state,) = {b.state for b in board(under_way).batteries if b.uid == move.battery}
    assert state == "on the way"

    # Long after it was due, nobody said that it came.
    set_clock(under_way, under_way.minute_of(move.arrive) + under_way.lateness_min + 5)
    said = " ".join(board(under_way).worth_a_look)
    assert re.search(rf"{move.bring} left for {move.station.name}, due at", said)
    battery = next(a for a in shelf.values() if a.pk == move.battery)
    now = under_way.clock.now()
    services.log_swap(under_way, move.station, battery=battery, by=marin, at=now)
    assert progress(under_way, move) is None


def test_another_battery_than_planned_is_taken_and_what_it_was_promised_for_is_said(
    under_way, move, marin, shelf
):
    """K03 goes in at the other station; what came out there can go in its place."""
    set_clock(under_way, under_way.minute_of(move.arrive) - 20)
    now = under_way.clock.now()
    other = under_way.stations.exclude(pk=move.station.pk).get()
    (came_out,) = {"K01", "K02"} - {move.bring_back}
    taken = next(a for a in shelf.values() if a.pk == move.battery)
    how = {"by": marin, "at": now}
    services.log_swap(
        under_way, other, battery=taken, battery_out=shelf[came_out],
        place_out=services.yard_rack(under_way), **how,
    )  # fmt: skip
    line = next(s for s in board(under_way).stations if s.station == move.station)
    words = f"{taken.tag} serves at {other.name} instead: "
    assert line.progress.trouble == f"{words}no other is free: replan."
    assert line.next.words == "serves elsewhere"

    services.note(
        under_way, "reading", battery=shelf[came_out].pk, gauge_pct=90.0, **how
    )
    trouble = progress(under_way, move).trouble
    assert trouble.startswith(f"{words}take {came_out} (8")
    assert trouble.endswith("%) though it is promised for later, or replan.")

    services.log_swap(under_way, move.station, battery=shelf[came_out], **how)
    assert progress(under_way, move) is None  # made, with another battery


def test_a_move_told_by_mistake_is_struck(under_way, move, tap, marin):
    """As any entry; then it is not told."""
    tap("told")
    entry = FieldEntry.objects.get(kind="told")
    now = under_way.clock.now()
    services.strike(under_way, entry, because="another crew", by=marin, at=now)

    assert progress(under_way, move).told is None


def test_the_log_says_what_was_noted_in_words(under_way, move, tap, marin, shelf, boss):
    """Each kind of entry reads as somebody would say it."""
    tap("told")
    tap("left")
    how = {"by": marin, "at": under_way.clock.now()}
    services.log_move(under_way, shelf["K03"], to=None, **how)
    services.note(under_way, "stand_down", **how)
    text = boss.get(reverse("field:log_list", args=[under_way.pk])).content.decode()

    assert f"crew told: {move.bring} to {move.station.name}" in text
    assert f"crew left: {move.bring} to {move.station.name}" in text
    assert "K03 on the way" in text
    assert re.search(r">\s*stand down\s*<", text)
    assert "None" not in text


def test_bad_taps_change_nothing(under_way, tap, client_of):
    """A move that is not there, a state that is none."""
    before = FieldEntry.objects.count()
    assert "not planned any more" in tap("delivered").content.decode()
    url = reverse("field:move_state", args=[under_way.pk])
    page = client_of("runner").post(url, {"what": "told", "station": "x"}, follow=True)
    assert "not planned any more" in page.content.decode()
    assert FieldEntry.objects.count() == before


def test_stand_down_stops_all_walks_until_all_is_clear(under_way, move, client_of):
    """Who lasts on what comes first; nobody is asked to leave."""
    client = client_of("logger")
    url = reverse("field:call", args=[under_way.pk])
    page = client.post(url, {"what": "stand_down"}, follow=True).content.decode()

    assert "STAND DOWN since" in page
    assert "leave by" not in page.split("Next moves")[0].split("live-stations")[1]
    assert ">Told<" not in page
    lasts = [line.lasts_h for line in board(under_way).stations]
    assert lasts == sorted(lasts)
    page = client.post(url, {"what": "all_clear"}, follow=True).content.decode()
    assert "STAND DOWN" not in page
    assert "Replan from now" in page
    refused = client_of("observer").post(url, {"what": "stand_down"})
    assert refused.status_code == 403


def test_a_source_that_came_back_asks_whether_its_chargers_did(under_way, shelf, marin):
    """Until somebody reads what is on the bay."""
    now, bay = under_way.clock.now(), under_way.bays.get()
    how = {"by": marin}
    place = services.Place.objects.get(pk=bay.pk)
    services.log_move(under_way, shelf["K03"], to=place, at=now, **how)
    source = under_way.sources.get()
    services.log_source(under_way, source, is_on=False, at=now, **how)
    later = now + timedelta(minutes=20)
    set_clock(under_way, under_way.minute_of(later))
    services.log_source(under_way, source, is_on=True, at=later, **how)

    assert f"see that {bay} charges K03" in " ".join(board(under_way).worth_a_look)
    services.note(
        under_way, "reading", battery=shelf["K03"].pk, gauge_pct=50.0,
        at=later + timedelta(minutes=1), **how,
    )  # fmt: skip
    assert "see that" not in " ".join(board(under_way).worth_a_look)


def test_an_alarm_is_one_cause_and_somebody_s_by_name(
    under_way, esker, marin, client_of
):
    """Off the air hides what follows from it; an hour later it alarms again."""
    set_clock(under_way, 120)
    how = {"by": marin, "at": under_way.clock.now()}
    services.log_station(under_way, esker, what="off_air", **how)
    page = board(under_way)
    (one,) = page.alarms
    assert one.words.startswith("Esker is off the air since 14:00. Soonest: K03")
    assert page.alarm_count == 1

    url = reverse("field:alarm_seen", args=[under_way.pk])
    sent = {"station": esker.pk, "cause": one.cause}
    text = client_of("logger").post(url, sent, follow=True).content.decode()
    assert "Logger is on it since" in text
    assert 'data-alarms="0"' in text
    set_clock(under_way, 121)
    how["at"] = under_way.clock.now()
    services.log_station(under_way, esker, what="back", **how)
    assert board(under_way).alarms == []
    services.note(under_way, "reading", battery=_at(under_way, esker), volts=0.0, **how)
    (other,) = board(under_way).alarms
    assert (other.cause, other.seen_by) == ("0 V", "")

    client_of("logger").post(url, sent | {"cause": other.cause})
    for minute, by in ((121 + 59, "Logger"), (121 + 61, "")):
        set_clock(under_way, minute)
        found = board(under_way).alarms
        assert [a.seen_by for a in found if a.station == esker.pk] == [by]
    for wrong in ({"station": "x"}, {"cause": "rain"}):
        page = client_of("logger").post(url, sent | wrong, follow=True)
        assert "That alarm is over" in page.content.decode()


def _at(event, station):
    """What serves at a station."""
    line = next(s for s in board(event).stations if s.station == station)
    return line.battery.uid


def test_the_next_watch_takes_over_from_one_page(
    under_way, move, shelf, marin, client_of
):
    """Stations, stock, moves, charging, holds, people, notes and what is open."""
    now = under_way.clock.now()
    services.note(under_way, "note", by=marin, at=now, note="wind is turning")
    url = reverse("field:handover", args=[under_way.pk])
    page = client_of("observer").get(url).content.decode()

    for words in ("Esker", "K01", move.bring, "wind is turning", "Marin", "Wh", "Bay"):
        assert words in page
    stock = board(under_way).stock
    assert stock.typical_wh >= stock.bad_wh > 0
    rack = services.yard_rack(under_way)
    services.log_move(under_way, shelf["K02"], to=rack, by=marin, at=now)
    assert "no battery logged" in client_of("observer").get(url).content.decode()
    # 19 Ah each at 12.8 V, three of them, above 20 %: less than 584 Wh by hand.
    assert stock.typical_wh < 3 * 19 * 12.8 * 0.8 + 1


def test_a_replan_says_what_it_changes_and_buys_and_gives_crews_their_minutes(
    under_way, shelf, esker, marin, boss
):
    """Esker's battery is nearly empty by its gauge; the published plan can't know."""
    now = under_way.clock.now()
    services.note(
        under_way, "reading", battery=shelf["K01"].pk, gauge_pct=24.0, by=marin, at=now
    )
    services.note(
        under_way, "reading", battery=shelf["K01"].pk, gauge_pct=23.0, by=marin,
        at=now + timedelta(minutes=1),
    )  # fmt: skip
    set_clock(under_way, under_way.minute_of(now) + 2)
    page = boss.post(reverse("plan:rotation_add", args=[under_way.pk]), follow=True)
    text = page.content.decode()

    assert re.search(r"Against rotation \d+ going on: .*less off the air", text)
    assert re.search(r"of its \d+ moves to come", text, re.IGNORECASE)
    made = under_way.rotations.order_by("number").last()
    walks = [leg for leg in made.legs.all() if leg.kind == "carried"]
    assert walks
    assert min(leg.start_min for leg in walks) >= made.from_min + 10


def test_a_replan_lets_a_crew_finish_its_walk(under_way, move, tap, marin):
    """What left counts as there, what it relieves as back; the crew walks later."""
    set_clock(under_way, under_way.minute_of(move.leave))
    tap("left")
    made = make_rotation(under_way, by=marin, at=under_way.clock.now(), lead_min=0)
    scenario = scenario_from(made.snapshot)
    starts = {one.tag: (one.start_place, one.is_spare) for one in scenario.batteries}

    assert starts[move.bring] == (str(move.station.pk), False)
    assert starts[move.bring_back] == (YARD, False)
    walks = [leg for leg in made.legs.all() if leg.kind == "carried"]
    back = under_way.minute_of(move.back)
    assert all(leg.start_min >= back for leg in walks if leg.crew == move.crew)


@pytest.mark.parametrize("lead", [0, 25])
def test_a_replan_gives_crews_the_minutes_they_ask_for(
    under_way, shelf, marin, boss, lead
):
    """Nobody sets off before; nonsense is said, and makes no plan."""
    now = under_way.clock.now()
    services.note(
        under_way, "reading", battery=shelf["K01"].pk, gauge_pct=15.0, by=marin, at=now
    )
    url = reverse("plan:rotation_add", args=[under_way.pk])
    boss.post(url, {"lead_min": str(lead)})
    made = under_way.rotations.order_by("number").last()
    first = min(leg.start_min for leg in made.legs.all() if leg.kind == "carried")
    assert lead <= first - made.from_min <= lead + 15

    for wrong in ("-5", "soon", "121", "7.5", ""):
        page = boss.post(url, {"lead_min": wrong}, follow=True).content.decode()
        assert "Crews set off in 0 to 120 whole minutes" in page
    set_clock(under_way, 481)
    page = boss.post(url, follow=True).content.decode()
    assert "The event is over: there is nothing left to plan." in page
    assert under_way.rotations.order_by("number").last() == made


def test_a_replan_leaves_the_coming_hour_as_published(under_way, move, marin, shelf):
    """Where batteries are as planned, what the crew was told does not change."""
    set_clock(under_way, under_way.minute_of(move.leave) - 30)
    now = under_way.clock.now()
    for tag in ("K01", "K02"):
        read = {"battery": shelf[tag].pk, "gauge_pct": 43.0}
        services.note(under_way, "reading", by=marin, at=now, **read)
    made = make_rotation(under_way, by=marin, at=now)
    kept = {(leg.battery, leg.place, leg.start_min) for leg in made.legs.all()}

    arrive = round(under_way.minute_of(move.arrive))
    assert (move.battery, move.station.pk, arrive) in kept


@pytest.mark.parametrize(
    ("count", "said"),
    [(1, "Kame is new: it can be served, nobody loses a minute"),
     (12, "Kame is new, and this plan cannot serve it without loss: ")],
)  # fmt: skip
def test_a_station_that_comes_later_can_be_served_or_not(under_way, boss, count, said):
    """One radio, or twelve of them on one battery; who pays is named."""
    kame = save_station(under_way, name="Kame", tier=3, walk_min=5)
    add_equipment(kame, equipment=EquipmentType.objects.get(pk="hf-40w"), count=count)
    pattern = OperatingPattern.objects.get(pk="calling-cw")
    add_hours(
        kame, starts=NOON + timedelta(hours=7), ends=NOON + timedelta(hours=8),
        pattern=pattern,
    )  # fmt: skip
    url = reverse("plan:rotation_add", args=[under_way.pk])

    page = boss.post(url, follow=True)
    assert said in " ".join(str(m) for m in page.context["messages"])


def test_the_station_whose_reading_decides_most_is_asked_next(under_way, shelf, marin):
    """Esker was read an hour ago by gauge, Drumlin not since the start."""
    under = board(under_way)
    assert under.ask_next.startswith("Ask ")
    now = under_way.clock.now()
    for tag in ("K01", "K02"):
        for minutes in (2, 1):
            services.note(
                under_way, "reading", battery=shelf[tag].pk, gauge_pct=97.0,
                by=marin, at=now - timedelta(minutes=minutes),
            )  # fmt: skip
    before = under.ask_next

    assert board(under_way).ask_next != before or before == ""


def test_a_faulty_bay_gives_nothing_in_board_belief_and_replan(
    under_way, shelf, marin, boss
):
    """By hand: an hour on a bay that died at once leaves 40 % as it was."""
    bay = under_way.bays.get()
    now = under_way.clock.now()
    how = {"by": marin, "at": now}
    for number in (0, 1):
        services.note(
            under_way, "reading", battery=shelf["K03"].pk, gauge_pct=40.0,
            by=marin, at=now + timedelta(minutes=number),
        )  # fmt: skip
    place = Place.objects.get(pk=bay.pk)
    services.log_move(under_way, shelf["K03"], to=place, **how)
    set_clock(under_way, under_way.minute_of(now) + 2)
    url = reverse("field:entry_add", args=[under_way.pk, "source"])
    boss.post(url, {"uid": uuid4(), "source": bay.pk, "state": "off", "text": "smell"})
    set_clock(under_way, under_way.minute_of(now) + 62)

    page = board(under_way)
    (line,) = page.bays
    assert (line.is_faulty, line.has_power, line.hours_to_90) == (True, False, None)
    assert line.battery.soc.typical == pytest.approx(0.4, abs=0.06)
    assert any(w.startswith("Bay 1 is off since 14:02") for w in page.worth_a_look)
    text = boss.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "faulty or off since" in text
    log = boss.get(reverse("field:log_list", args=[under_way.pk])).content.decode()
    assert "Bay 1 off" in log
    made = make_rotation(under_way, by=marin, at=under_way.clock.now())
    assert "charge" not in {leg.kind for leg in made.legs.all()}

    boss.post(url, {"uid": uuid4(), "source": bay.pk, "state": "on"})
    set_clock(under_way, under_way.minute_of(now) + 122)
    assert board(under_way).bays[0].battery.soc.typical > 0.7
    made = make_rotation(under_way, by=marin, at=under_way.clock.now())
    assert "charge" in {leg.kind for leg in made.legs.all()}


@pytest.mark.parametrize(
    ("minute", "said"),
    [
        (122, "listens now, until 14:05"),  # 5 minutes of each 20, from 12:00 on
        (125, "listens 14:20–14:25"),
        (478, ""),  # the next would begin at 20:00, when it is closed
    ],
)
def test_a_station_that_is_mostly_off_says_when_to_call(under_way, esker, minute, said):
    """By hand, on the hours that the plan has."""
    esker.hours.update(on_for_min=5, every_min=20)
    set_clock(under_way, minute)
    line = next(s for s in board(under_way).stations if s.station == esker)
    assert line.listens == said


def test_a_battery_that_a_station_must_not_have_does_not_stop_a_replan(
    under_way, shelf, esker, marin, boss
):
    """Somebody put 24 V on a 12 V station: it is said, and another one is sent."""
    wrong = save_battery(
        None, by=marin, tag="W24", chemistry="lifepo4", series=8, nameplate_ah=20.0
    )
    under_way.batteries.add(wrong)
    source = under_way.sources.get()
    add_bay(under_way, name="Lead bay", source=source, max_w=99, chemistries=["agm"])
    lead, _ = Place.objects.get_or_create(
        pk=under_way.bays.get(name="Lead bay").pk, defaults={"kind": "bay"}
    )
    now = under_way.clock.now()
    services.log_move(under_way, shelf["K03"], to=lead, by=marin, at=now)
    services.log_swap(
        under_way, esker, battery=wrong, battery_out=shelf["K01"], by=marin, at=now
    )
    page = boss.post(reverse("plan:rotation_add", args=[under_way.pk]), follow=True)
    said = " ".join(str(m) for m in page.context["messages"])
    made = under_way.rotations.order_by("number").last()

    assert "W24 is at Esker, and must not feed it:" in said
    assert "K03 is at Lead bay, and must not charge there:" in said
    assert not made.legs.filter(battery=wrong.pk, kind="serve").exists()
    assert made.legs.filter(place=esker.pk, kind="serve").exists()


def test_every_published_move_has_one_state_in_every_room(
    under_way, move, tap, marin, shelf, boss
):
    """Board, handover, the plan's table and its round sheet say the same of each."""
    tap("told")
    now = under_way.clock.now()
    rotation = published(under_way)
    tags = {asset.pk: asset.tag for asset in shelf.values()}
    moves = moves_of(under_way, rotation, tags)
    on_board = board(under_way).every_move
    assert [one.move.key for one in on_board] == [one.key for one in moves]

    (mine,) = [one for one in on_board if one.move.key == move.key]
    assert mine.state == "told"
    assert mine.state_words == f"told {now:%H:%M}"
    in_plan = moves_now(under_way, rotation, moves, now)
    assert [one.state for one in in_plan] == [one.state for one in on_board]
    page = boss.get(reverse("field:handover", args=[under_way.pk])).content.decode()
    assert all(one.move.goes_on in page for one in on_board)

    # Hours later nobody logged it: given up, and said so; never gone.
    set_clock(under_way, under_way.minute_of(move.arrive) + 125)
    late = board(under_way)
    assert move.key in [one.move.key for one in late.given_up]
    page = boss.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "Given up, nobody logged them" in page


def test_two_people_publish_and_the_second_is_told(under_way, marin, boss):
    """What somebody published meanwhile does not vanish unseen."""
    first, second = (make_rotation(under_way, by=marin) for _ in range(2))
    shown = published(under_way).number
    urls = [
        reverse("plan:rotation_publish", args=[under_way.pk, one.number])
        for one in (first, second)
    ]
    boss.post(urls[0], {"over": shown})
    page = boss.post(urls[1], {"over": shown}, follow=True).content.decode()
    assert f"Marin published rotation {first.number} meanwhile" in page
    assert published(under_way) == first
    boss.post(urls[1], {"over": first.number})
    assert published(under_way) == second


def test_a_battery_on_hold_or_promised_elsewhere_is_asked_about(
    under_way, shelf, boss, esker, marin
):
    """By the line as by the form; and a plan says who else counts on a battery."""
    url = reverse("field:line_add", args=[under_way.pk])
    page = boss.post(url, {"line": "esker K04 in"}, headers={"HX-Request": "true"})
    assert "K04 is on hold: swollen" in page.content.decode()
    assert not FieldEntry.objects.filter(kind="swap", battery=shelf["K04"].pk).exists()

    other = save_event(
        None,
        name="Marsh Drill",
        zone="UTC",
        starts=NOON,
        ends=NOON + timedelta(hours=3),
    )
    other.batteries.set([shelf["K02"]])
    number = published(under_way).number
    page = boss.get(reverse("plan:rotation_detail", args=[under_way.pk, number]))
    assert "K02: chosen for Marsh Drill too" in page.content.decode()
