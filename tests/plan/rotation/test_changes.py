"""Pins and changes by hand through the pages: costs first, kept, taken back."""

from dataclasses import replace
from itertools import pairwise

import pytest
from django.urls import reverse

from hollow_kettle.clock import local
from hollow_kettle.plan.bridge.chosen import current_rotation
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.bridge.scenario import scenario_from, scenario_of, snapshot_of
from hollow_kettle.plan.models import Event, Pin, Rotation
from hollow_kettle.plan.rotation import changes, making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.rotation.moves import moves_of
from hollow_kettle.plan.rotation.pages.board import board_of
from hollow_kettle.plan.rotation.queries import tags_of
from powercore.event.problem import YARD, Leg, Problem
from powercore.rotation.verify import verify


@pytest.fixture
def draft(event, marin):
    """A first complete rotation, of stations that a battery does not last."""
    event.stations.update(draws=1.2)
    return making.make_rotation(event, by=marin)


def url(name, rotation, *more):
    """A page of a rotation."""
    return reverse(f"plan:{name}", args=[rotation.event_id, rotation.number, *more])


def brought(rotation):
    """The first stay that somebody walks for."""
    return rotation.legs.filter(kind="serve", start_min__gt=0).first()


def walls(event, start, end):
    """Two times of the event as they are typed."""
    return {
        name: f"{local(event.moment_of(minute), event.zone):%Y-%m-%d %H:%M}"
        for name, minute in (("starts", start), ("ends", end))
    }


def test_a_change_says_its_cost_first_then_is_kept_and_taken_back(draft, boss):
    """Nothing is kept by asking; taking it back leads to what it was made from."""
    leg = brought(draft)
    asked = {"leg": leg.pk, "what": "skip"}

    shown = boss.post(url("change_try", draft), asked, headers={"HX-Request": "true"})

    assert "Worse than it is" in shown.content.decode()
    assert Rotation.objects.count() == 1

    boss.post(url("change_keep", draft), asked)
    made = Rotation.objects.get(number=draft.number + 1)
    assert made.walks < draft.walks
    assert made.changed_from == draft
    assert made.change.endswith("no walk")
    problem, legs = problem_of(made)
    assert verify(problem, legs).is_valid

    boss.post(url("rotation_take_back", made))
    made.refresh_from_db()
    assert made.state == Rotation.State.TAKEN_BACK
    assert current_rotation(draft.event) == draft
    # From a page that was open before.
    page = boss.post(url("rotation_publish", made), follow=True).content.decode()
    assert "was undone meanwhile" in page
    assert current_rotation(draft.event) == draft


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ({"what": "instead"}, "Choose the battery that should go instead."),
        ({"what": "earlier"}, "Say by how many minutes, 1 to 240."),
        (
            {"what": "later", "minutes": "999"},
            "Minutes must be between 1 and 240 min, not 999",
        ),
        ({"what": "earlier", "minutes": "soon"}, "Minutes must be a plain number"),
        ({"what": "fly"}, "Select a valid choice"),
    ],
)
def test_a_change_asked_for_wrongly_is_refused_by_its_field(draft, boss, asked, words):
    """With the range where there is one; nothing is kept."""
    asked = {"leg": brought(draft).pk} | asked

    answer = boss.post(url("change_try", draft), asked, headers={"HX-Request": "true"})

    assert answer.status_code == 422
    assert words in answer.content.decode()
    assert Rotation.objects.count() == 1


def test_a_pin_that_the_rotation_keeps_costs_nothing_and_is_listed(draft, boss):
    """No new draft; the pin is part of the next rotation that is made."""
    leg = brought(draft)
    asked = {"leg": leg.pk, "what": "pin"}
    page = boss.post(url("change_try", draft), asked)
    assert "it costs nothing" in page.content.decode()

    boss.post(url("change_keep", draft), asked)

    assert Rotation.objects.count() == 1
    assert (
        "kept by this rotation"
        in boss.get(url("rotation_detail", draft)).content.decode()
    )
    anew = making.make_rotation(draft.event, by=draft.made_by)
    stays = anew.legs.filter(battery=leg.battery, place=leg.place)
    assert any(x.start_min <= leg.start_min and leg.end_min <= x.end_min for x in stays)


def test_no_walk_to_a_station_makes_a_draft_and_is_lifted_with_it(draft, boss):
    """All day: whoever is brought there now is not any more."""
    event, leg = draft.event, brought(draft)
    asked = {"kind": "no_walk", "place": leg.place, **walls(event, 0, event.span_min)}

    boss.post(url("change_keep", draft), asked)

    made = Rotation.objects.get(number=draft.number + 1)
    assert not made.legs.filter(place=leg.place, kind="serve", start_min__gt=0)
    pin = Pin.objects.get()
    assert pin.draft == made
    row = boss.get(url("rotation_detail", made)).context["binds"].rows[0]
    assert (row.why, row.cure) == ("a pin is in the way", "lifting the pin")
    asked = {"headers": {"HX-Request": "t"}}
    page = boss.post(url("change_try", made), row.low, **asked)
    change = page.context["change"]
    costs = {row.name: row.value for row in change.rows}
    assert change.verdict == "Better than it is"
    assert costs["off the air"] < 0 < costs["on low power"]
    old = boss.get(url("rotation_detail", draft)).content.decode()
    assert "not kept by this rotation" in old

    boss.post(url("rotation_take_back", made))
    pin.refresh_from_db()
    assert pin.lifted_at is not None
    boss.post(url("pin_lift", draft, pin.pk))
    pin.refresh_from_db()
    assert pin.lifted_at is None


def test_low_power_is_tried_kept_and_taken_back_like_any_pin(draft, boss):
    """Its minutes are a cost; a station without a lower step is told so."""
    event = draft.event
    stations = {
        one.name: bool(any(load.low for load in one.loads))
        for one in scenario_from(draft.snapshot).stations
    }
    for station in event.stations.all():
        hours = walls(event, 0, event.span_min)
        asked = {"kind": "low", "place": station.pk, **hours}
        page = boss.post(url("change_try", draft), asked, headers={"HX-Request": "t"})
        has_low = stations[station.name]
        assert page.status_code == (200 if has_low else 422)
        words = "on low power" if has_low else "that saves nothing"
        assert words in page.content.decode()
        if has_low:
            boss.post(url("change_keep", draft), asked)
            made = event.rotations.first()
            assert made.unserved_wh <= draft.unserved_wh
            assert made.pins.get().kind == "low"
            boss.post(url("rotation_take_back", made))
    assert any(stations.values())


def test_a_pin_that_cannot_be_kept_is_refused_with_its_reason(draft, boss):
    """A battery on hold; what was typed stays where it was typed."""
    event = draft.event
    held = event.batteries.exclude(hold="").first() or event.batteries.first()
    held.hold = "swollen"
    held.save()
    draft = making.make_rotation(event, by=draft.made_by)
    station = event.stations.first()
    asked = {"kind": "stays", "battery": held.pk, "place": station.pk}
    asked |= walls(event, 180, 240)

    page = boss.post(url("change_try", draft), asked)

    words = f"“{held.tag} at {station.name}” can&#x27;t be kept: {held.tag} is on hold."
    assert page.status_code == 422
    assert words in page.content.decode()
    assert not Pin.objects.exists()


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ({"kind": "stays"}, "Say which battery stays."),
        ({"kind": "away"}, "Say where: “any” is for walks and swaps only."),
        ({"kind": "no_walk", "place": "bay"}, "Choose a station, not a bay."),
        ({"kind": "no_swap", "place": "bay"}, "Choose a station, not a bay."),
        ({"kind": "no_walk", "ends": "2020-01-01 00:00"}, "It ends before it begins."),
        ({"kind": "no_walk", "starts": "tonight"}, "From, local time: Write the date"),
        ({"kind": "no_walk", "starts": ""}, "From, local time: This field is required"),
        ({"kind": "no_walk"}, "That is past."),
    ],
)
def test_a_pin_asked_for_wrongly_is_refused_by_its_field(draft, boss, asked, words):
    """Each kind names what it needs."""
    event = draft.event
    if asked.get("place") == "bay":
        asked = asked | {"place": event.bays.first().pk}
    hours = (0, 60) if asked == {"kind": "no_walk"} else (150, 200)
    asked = walls(event, *hours) | asked

    page = boss.post(url("change_try", draft), asked, headers={"HX-Request": "true"})

    assert page.status_code == 422
    assert words in page.content.decode()


def test_a_search_begins_with_a_rotation_that_keeps_the_pins(draft, marin, monkeypatch):
    """An older draft is mended first; one that keeps them only notes them."""
    event, leg = draft.event, brought(draft)
    Pin.objects.create(
        event=event,
        kind=Pin.Kind.NO_WALK,
        place=leg.place,
        starts_at=event.starts_at,
        ends_at=event.ends_at,
    )

    mended = rotations.with_pins_kept(draft, by=marin)

    assert mended.changed_from == draft
    problem, legs = problem_of(mended)
    assert problem.scenario.pins
    assert verify(problem, legs).is_valid
    assert rotations.with_pins_kept(mended, by=marin) == mended


def test_a_walk_that_has_left_is_not_changed(draft, boss):
    """While an event runs, what is under way stays."""
    event, leg = draft.event, brought(draft)
    Event.objects.filter(pk=event.pk).update(state=Event.State.RUNNING)
    event.refresh_from_db()
    event.clock_offset = event.moment_of(leg.start_min + 5) - event.clock.now()
    event.save()

    answer = boss.post(
        url("change_try", draft),
        {"leg": leg.pk, "what": "skip"},
        headers={"HX-Request": "true"},
    )

    assert "its walk has already left" in answer.content.decode()
    with pytest.raises(changes.ValidationError, match="Only a draft"):
        changes.take_back(draft)


def test_two_rotations_are_compared_by_figures_stations_and_moves(draft, boss):
    """What only one has stands under its name; a rotation alone has no other."""
    compare = reverse("plan:rotation_compare", args=[draft.event_id])
    assert "nothing to compare" in boss.get(compare).content.decode()
    leg = brought(draft)
    boss.post(url("change_keep", draft), {"leg": leg.pk, "what": "skip"})

    page = boss.get(f"{compare}?one={draft.number}&other={draft.number + 1}")

    found = page.context["page"]
    assert found.one.rotation == draft
    tag = tags_of(draft)[leg.battery]
    arrive = draft.event.moment_of(leg.start_min)
    assert (tag, arrive) in {(move.bring, move.arrive) for move in found.one.only}
    every = moves_of(draft.event, draft, tags_of(draft))
    assert found.same_moves + len(found.one.only) == len(every)
    off = {name: (one, other) for name, one, other in found.figures}
    assert off["off the air, min"][0] == draft.off_air_min
    assert boss.get(f"{compare}?one=soon").status_code == 200


def test_a_charge_is_moved_at_its_cost_and_says_what_it_is_for(draft, boss):
    """Choose its bar; bad input names its field; the draft that is kept is valid."""
    leg = draft.legs.filter(kind="charge").order_by("-end_min").first()
    shown = boss.get(url("leg_why", draft, leg.pk)).content.decode()
    assert "Doing without it costs" in shown

    for asked, words in (
        ({"what": "bay"}, "Another bay: Choose the bay"),
        ({"what": "off_later", "minutes": "999"}, "between 1 and 240 min, not 999"),
        ({"what": "off_earlier", "minutes": "240"}, "not possible"),
    ):
        refused = boss.post(url("change_try", draft), {"leg": leg.pk, **asked})
        assert refused.status_code == 422
        assert words in refused.content.decode()
    stay = brought(draft)
    asked = {"leg": stay.pk, "what": "off_later", "minutes": "5"}
    refused = boss.post(url("change_try", draft), asked)
    assert "That is for a charge in the yard" in refused.content.decode()

    asked = {"leg": leg.pk, "what": "skip"}
    boss.post(url("change_keep", draft), asked)
    made = Rotation.objects.get(number=draft.number + 1)
    assert made.change.endswith("no charge")
    assert not made.legs.filter(
        kind="charge", battery=leg.battery, place=leg.place, start_min=leg.start_min
    ).exists()
    problem, legs = problem_of(made)
    assert verify(problem, legs).is_valid


def test_a_bar_shows_the_charge_as_it_really_runs(event, marin):
    """Flat while its bay has no power, and slower towards the end."""
    source = event.sources.get()
    source.windows.all().delete()
    for first, last in ((0, 60), (180, 480)):
        source.windows.create(
            starts_at=event.moment_of(first), ends_at=event.moment_of(last)
        )
    event.bays.update(max_w=60)
    problem, legs = _charges_all_along(event)
    draft = making.make_rotation(event, by=marin)
    draft.snapshot = snapshot_of(event, problem.scenario)
    rotations.keep(draft, problem, legs)

    drawn = board_of(event, draft, None)

    (bar,) = [one for one in drawn.bars if one.kind == "charge"]
    spots = [tuple(map(float, spot.split(","))) for spot in bar.fill.split()][1:-1]
    scale = (spots[-1][0] - spots[0][0]) / 480
    by_minute = {round((x - spots[0][0]) / scale): y for x, y in spots}
    assert by_minute[60] == pytest.approx(by_minute[180])
    rises = [b[1] - a[1] for a, b in pairwise(spots)]
    assert all(rise <= 0 for rise in rises)
    assert len(spots) >= 4


def _charges_all_along(event):
    """A problem and legs: one battery is on the bay from start to end."""
    problem = Problem(scenario_of(event))
    (bay,) = problem.bays
    keys = [key for key, one in problem.batteries.items() if not one.is_on_hold]
    low = replace(problem.batteries[keys[0]], start_soc=0.2)
    batteries = tuple(
        low if one.key == low.key else one for one in problem.scenario.batteries
    )
    problem = Problem(replace(problem.scenario, batteries=batteries))
    span = problem.span_min

    def leg(key, kind, place):
        return Leg(kind=kind, battery=key, place=place, start_min=0, end_min=span)

    return problem, [
        leg(key, *(("charge", bay) if key == low.key else ("wait", YARD)))
        for key in keys
    ]


def test_batteries_may_be_put_in_an_order_by_hand(event, esker, boss, marin):
    """Pins at the start of each turn, kept by the next plan; nonsense pins nothing."""
    url = reverse("plan:station_order", args=[event.pk, esker.pk])
    for wrong, words in (
        ("", "Name the batteries"),
        ("K03 K99", "K99 takes no part"),
        ("K03 k03", "K03 stands there twice"),
    ):
        assert words in boss.post(url, {"order": wrong}, follow=True).content.decode()
    assert not event.pins.exists()

    page = boss.post(url, {"order": "k03, K01"}, follow=True).content.decode()
    pins = list(event.pins.filter(lifted_at=None))
    tags = event.unit_tags
    assert tags[pins[0].battery_id] == "K03"
    assert pins[0].starts_at == event.starts_at
    assert "Pinned: K03 from 12:00" in page
    made = making.make_rotation(event, by=marin)
    first = made.legs.filter(kind="serve", place=esker.pk).order_by("start_min").first()
    assert tags[first.battery] == "K03"

    boss.post(url, {"order": "K02"})
    assert [tags[p.battery_id] for p in event.pins.filter(lifted_at=None)] == ["K02"]
