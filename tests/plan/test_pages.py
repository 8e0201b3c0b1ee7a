"""The Plan's forms as people use them: what is refused, what is kept."""

from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse

from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.people.models import Club, Duty
from hollow_kettle.plan.models import Bay, Event, Station
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.pages import board
from hollow_kettle.plan.yard.services import add_crew
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.models import Asset
from tests.conftest import NOON, set_clock

SPAN = {"starts": "2026-06-27 12:00", "ends": "2026-06-27 20:00"}


def text(response):
    """A page's text with plain apostrophes."""
    return " ".join(response.content.decode().replace("&#x27;", "'").split())


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        (
            "source_add",
            {"name": "sun", "kind": "mains", "max_w": "0", **SPAN},
            "100000 W",
        ),
        (
            "crew_add",
            {
                "name": "crew",
                "does": "walks",
                "people": "2",
                "starts": SPAN["ends"],
                "ends": SPAN["starts"],
            },
            "must end after it starts",
        ),
        (
            "crew_add",
            {"name": "crew", "does": "walks", "people": "0", **SPAN},
            "between 1 and 20",
        ),
        (
            "bay_add",
            {"name": "Bay 9", "max_w": "200", "chemistries": ["agm"]},
            "This field is required",
        ),
        ("walk_edit", {"a": "²", "b": "-1", "minutes": "5"}, "two different places"),
    ],
)
def test_the_yard_refuses_what_cannot_be_and_says_why(event, boss, name, data, words):
    """Nothing of a refused form is kept."""
    before = (event.sources.count(), event.bays.count(), event.crews.count())

    response = boss.post(reverse(f"plan:{name}", args=[event.pk]), data)

    assert response.status_code == 422
    assert words in text(response)
    assert (event.sources.count(), event.bays.count(), event.crews.count()) == before


def test_a_walk_is_stated_in_minutes_from_one_on(event, boss, esker):
    """Zero is no walk; an empty field goes back to the map."""
    yard = event.sites.get(is_yard=True)
    data = {"a": yard.pk, "b": esker.site.pk}
    url = reverse("plan:walk_edit", args=[event.pk])

    assert "between 1 and 600 min, not 0" in text(
        boss.post(url, data | {"minutes": "0"})
    )
    assert "two different places" in text(boss.post(url, data | {"b": yard.pk}))
    assert boss.post(url, data | {"minutes": "22"}).status_code == 302
    page = boss.get(reverse("plan:places", args=[event.pk]))
    assert ">22<" in text(page)


def test_a_bay_is_a_place_and_leaves_with_it(event, boss):
    """Removing a bay removes its place; a source with bays stays."""
    bay = event.bays.get()
    source = reverse("plan:yard_row_delete", args=[event.pk, "source", bay.source.pk])
    assert "remove them first" in text(boss.post(source, follow=True))

    boss.post(reverse("plan:yard_row_delete", args=[event.pk, "bay", bay.pk]))

    assert not Bay.objects.exists()
    assert not Place.objects.filter(kind="bay").exists()


def test_a_station_is_added_changed_and_taken_out(event, boss):
    """With a decimal comma, a taken name on the way, and its hours and equipment."""
    add = reverse("plan:station_add", args=[event.pk])
    data = {
        "name": "Kame",
        "tier": "3",
        "changeover_s": "0",
        "latitude": "46,12",
        "longitude": "-95.4",
    }
    assert "Esker is there already" in text(
        boss.post(add, data | {"name": "esker"})
    ).replace("esker is", "Esker is")
    boss.post(add, data)
    kame = Station.objects.get(name="Kame")
    assert "draws nothing yet" in text(boss.get(kame.get_absolute_url()))
    assert (kame.site.latitude, kame.changeover_s, kame.tier) == (46.12, 0, 3)

    where = [event.pk, kame.pk]
    boss.post(
        reverse("plan:equipment_add", args=where),
        {"equipment": "laptop", "count": "2", "step": "full"},
    )
    wrong = boss.post(
        reverse("plan:equipment_add", args=where),
        {"equipment": "laptop", "count": "99", "step": "full"},
    )
    assert "How many must be between 1 and 50, not 99" in text(wrong)
    hours = SPAN | {"pattern": "digital", "step": "full"}
    assert boss.post(reverse("plan:hours_add", args=where), hours).status_code == 302
    assert "open then already" in text(
        boss.post(reverse("plan:hours_add", args=where), hours)
    )

    boss.post(reverse("plan:station_delete", args=where))
    assert not Station.objects.filter(name="Kame").exists()
    assert not event.sites.filter(name="Kame").exists()


def test_roles_are_given_and_taken_on_the_event_s_page(event, boss, people, esker):
    """A lead needs a station; a role can be taken away again."""
    url = reverse("plan:duties", args=[event.pk])
    stranger = people["stranger"]
    lead = {"actor": stranger.pk, "role": "station_lead"}

    assert "Say which station" in text(boss.post(url, lead))
    boss.post(url, lead | {"station": esker.pk})
    duty = Duty.objects.get(actor=stranger)
    assert duty.station_key == esker.pk

    boss.post(reverse("plan:duty_delete", args=[event.pk, duty.pk]))
    assert not Duty.objects.filter(actor=stranger).exists()


def test_an_event_begins_and_closes_by_the_coordinator_s_word(event, boss):
    """Unknown states are not found; the debrief opens for a closed event."""
    url = reverse("plan:event_state", args=[event.pk])

    assert boss.post(url, {"state": "exploded"}).status_code == 404
    boss.post(url, {"state": "closed"})
    event.refresh_from_db()
    assert event.state == Event.State.CLOSED
    assert boss.get(reverse("debrief:home"))["Location"].endswith(f"/{event.pk}/")


def test_batteries_are_chosen_by_ticking(event, boss, shelf):
    """Made-up keys are passed over."""
    url = reverse("plan:batteries", args=[event.pk])

    boss.post(url, {"battery": [str(shelf["K01"].pk), str(uuid4()), "nonsense"]})

    assert [asset.tag for asset in event.batteries.all()] == ["K01"]


def test_the_board_draws_each_leg_inside_its_lane_and_time(event, marin):
    """Bars lie between the drawing's edges, and their numbers run from zero on."""
    rotation = make_rotation(event, by=marin)

    drawn = board.board_of(event, rotation, event.clock.now())

    assert [bar.number for bar in drawn.bars] == list(range(len(drawn.bars)))
    for lane in drawn.lanes:
        for bar in lane.bars:
            assert drawn.left <= bar.x <= bar.x + bar.width <= drawn.right
            assert bar.y == lane.y
    assert drawn.left < drawn.now_x < drawn.right
    assert drawn.ticks[0][1] == "12"


def test_an_event_says_which_battery_must_start_charging_when(
    event, kit, shelf, boss, marin
):
    """Before it begins, while its yard crew watches; afterwards the rotation says."""
    url = reverse("plan:charge_by", args=[event.pk])
    assert "The event has begun" in boss.get(url).content.decode()

    set_clock(event, -600)
    Club.objects.update(clock_offset=event.clock_offset)
    assert "Nobody is down to watch" in boss.get(url).content.decode()
    add_crew(
        event, name="bench evening", does="yard",
        starts=NOON - timedelta(hours=9), ends=NOON - timedelta(hours=1),
    )  # fmt: skip
    page = boss.get(url).content.decode()
    assert "bench evening" in page
    assert "C01" in page
    assert "K04" not in page.split("<main")[1]  # on hold

    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    charger = Asset.objects.get(tag="C01")
    custody.check_out([charger], to=heron, by=marin)
    assert "no charger fits it" in boss.get(url).content.decode()
