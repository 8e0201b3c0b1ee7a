"""Equipment is the club's own: added, copied, changed, measured, and used by plans."""

import pytest
from django.urls import reverse

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import AS_NOTED, OperatingPattern
from hollow_kettle.plan.stations.services import add_equipment
from hollow_kettle.shelf import bridge
from hollow_kettle.shelf.assets.loads import kind_of_asset
from hollow_kettle.shelf.assets.services import save_asset
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.models import Asset, EquipmentType

TYPED = {
    "name": "Our 50 W transceiver", "basis": "measured", "remark": "bench, 14 June",
    "at_v": "13.8", "receive_a": "0.8", "transmit_idle_a": "2,5", "key_down_a": "10",
    "low_key_down_a": "5", "low_transmit_idle_a": "", "low_words": "10 W",
    "low_receive_a": "", "standby_a": "", "min_v": "11.5", "max_v": "15.8",
}  # fmt: skip


def initial_of(page):
    return {
        name: "" if value is None else value
        for name, value in page.context["form"].initial.items()
    }


def test_what_the_club_measured_is_planned_with(event, esker, boss):
    """Amps at 13.8 V become the same watts; a change reaches the event's demand."""
    answer = boss.post(reverse("shelf:equipment_add"), TYPED, follow=True)
    assert "Our 50 W transceiver is saved" in answer.content.decode()
    kind = EquipmentType.objects.get(name="Our 50 W transceiver")
    assert kind.origin == "measured by us: bench, 14 June"
    full, low = kind.steps.order_by("step")
    assert full.key_down_a * 12.8 == pytest.approx(138, rel=1e-3)
    assert (low.receive_a, low.words) == (full.receive_a, "10 W")

    row = esker.equipment.get()
    boss.post(reverse("plan:equipment_delete", args=[event.pk, row.pk]))
    adding = reverse("plan:equipment_add", args=[event.pk, esker.pk])
    boss.post(adding, {"equipment": kind.pk, "count": "1", "step": "full"})
    before = problem_for(event).problem.asked_wh[str(esker.pk)][-1]
    edit = reverse("shelf:equipment_edit", args=[kind.pk])
    as_it_is = initial_of(boss.get(edit))
    boss.post(edit, as_it_is)
    assert problem_for(event).problem.asked_wh[str(esker.pk)][-1] == before
    boss.post(edit, as_it_is | {"receive_a": "1.5", "transmit_idle_a": "4"})
    after = problem_for(event).problem.asked_wh[str(esker.pk)][-1]
    assert after > 1.2 * before
    gone = boss.post(reverse("shelf:equipment_delete", args=[kind.pk]), follow=True)
    assert "is used at a station" in gone.content.decode()


@pytest.mark.parametrize(
    ("slip", "words"),
    [
        ({"key_down_a": "2"}, "key down can&#x27;t draw less than transmit idle"),
        ({"receive_a": "800"}, "between 0 and 200 A"),
        ({"min_v": "16"}, "work up to more than 16 V"),
        ({"at_v": "0"}, "between 1 and 1000 V"),
        ({"low_key_down_a": "1,200"}, "1200 or 1.2"),
    ],
)
def test_a_slip_is_named_and_nothing_is_lost(stocked, boss, slip, words):
    """The field, the range, and what was typed."""
    answer = boss.post(reverse("shelf:equipment_add"), TYPED | slip)
    page = answer.content.decode()

    assert answer.status_code == 422
    assert words in page
    assert "bench, 14 June" in page
    assert not EquipmentType.objects.filter(name=TYPED["name"]).exists()


def test_a_copy_begins_as_the_kind_it_is_of(stocked, boss):
    """The generic one stays."""
    page = boss.get(reverse("shelf:equipment_add") + "?copy=hf-100w")
    boss.post(reverse("shelf:equipment_add"), initial_of(page) | {"key_down_a": "18"})

    mine = EquipmentType.objects.get(name="100 W HF transceiver, ours")
    assert mine.steps.get(step="full").key_down_a == pytest.approx(18)
    assert mine.steps.get(step="low").key_down_a == pytest.approx(9.5)
    assert (
        EquipmentType.objects.get(pk="hf-100w").steps.get(step="full").key_down_a == 21
    )


def test_a_radio_of_the_shelf_is_chosen_and_followed(event, esker, kit, boss, marin):
    """R01 draws at the station what the shelf says of it, then and later."""
    page = boss.get(reverse("plan:station_detail", args=[event.pk, esker.pk]))
    choices = page.context["equipment_form"].fields["equipment"].choices
    ((_, ours),) = [group for group in choices if group[0] == "Ours, on the shelf"]
    ((key, name),) = ours
    assert "R01" in name
    adding = reverse("plan:equipment_add", args=[event.pk, esker.pk])
    boss.post(adding, {"equipment": key, "count": "1", "step": "full"})
    kind = EquipmentType.objects.get(asset__tag="R01")
    own = 1.2 * 13.8 / 12.8  # the same watts at the library's volts
    assert kind.steps.get(step="full").receive_a == pytest.approx(own, rel=1e-3)
    assert kind.steps.get(step="low").key_down_a == pytest.approx(
        9.5 * 13.8 / 12.8, rel=1e-3
    )
    before = problem_for(event).problem.asked_wh[str(esker.pk)][-1]

    save_asset(KINDS["device"], kind.asset, by=marin, receive_a=2.4)
    assert kind.steps.get(step="full").receive_a == pytest.approx(2 * own, rel=1e-3)
    assert problem_for(event).problem.asked_wh[str(esker.pk)][-1] > before


def test_a_radio_s_duty_comes_from_the_shelf_in_kit_and_event_alike(
    event, esker, marin
):
    """A pattern that is as it is noted: change it there, and the plan follows."""
    radio = save_asset(
        KINDS["device"], None, by=marin, tag="R9", name="rig", receive_a=0.5,
        key_down_a=8.0, transmit_pct=50, duty_pct=80,
    )  # fmt: skip
    esker.equipment.all().delete()
    add_equipment(esker, equipment=kind_of_asset(radio))
    esker.hours.update(pattern=OperatingPattern.objects.get(pk=AS_NOTED))

    def planned():
        (opening,) = problem_for(event).problem.stations[str(esker.pk)].openings
        return opening.pattern.transmit_share, opening.pattern.duty

    assert planned() == (0.5, 0.8)
    save_asset(
        KINDS["device"], radio, by=marin, tag="R9", name="rig", receive_a=0.5,
        key_down_a=8.0, transmit_pct=20, duty_pct=40,
    )  # fmt: skip
    assert planned() == (0.2, 0.4)
    kit_of_it = bridge.device_of(Asset.objects.get(pk=radio.pk))
    assert (kit_of_it.transmit_share, kit_of_it.duty) == planned()


@pytest.mark.parametrize(
    ("volts", "limits", "wh"),
    [
        ("24", (20.0, 32.0), 24 * 0.45),
        ("7.4", (6.0, 8.4), 7.4 * 0.45),
        ("48", (40.0, 58.0), 48 * 0.45),
        ("13.8", (11.0, 15.8), 13.8 * 0.45),
        # Nobody said what it is made for: the middle of what it works at.
        ("", (22.0, 26.0), 24 * 0.45),
    ],
)
def test_amps_belong_to_the_volts_of_their_device(
    event, esker, marin, volts, limits, wh
):
    """0.45 A on receive at its own volts, for eight hours; the same in its kind."""
    made_for = {"nominal_v": float(volts)} if volts else {}
    radio = save_asset(
        KINDS["device"], None, by=marin, tag="R24", receive_a=0.45,
        min_v=limits[0], max_v=limits[1], **made_for,
    )  # fmt: skip
    kind = kind_of_asset(radio)
    (step,) = kind.steps.all()
    assert step.receive_a * 12.8 == pytest.approx(wh, rel=1e-3)
    device = bridge.device_of(radio)
    assert device.stated_v * device.draw.receive_a == pytest.approx(wh)
    esker.equipment.all().delete()
    add_equipment(esker, equipment=kind)
    asked = problem_for(event).problem.asked_wh[str(esker.pk)][-1]
    assert asked == pytest.approx(8 * wh, rel=1e-3)
