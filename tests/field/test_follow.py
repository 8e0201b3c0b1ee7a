"""What follows from the log follows it: at once, or when somebody gets to it."""

import random
from datetime import timedelta

from django.urls import reverse

from hollow_kettle.field import beliefs, services
from hollow_kettle.field.follow import is_behind
from hollow_kettle.log import services as log
from hollow_kettle.log.models import BatteryNow, Conflict, FieldEntry, Placement


def rows(model, *without):
    """All rows of a projection, but for their keys."""
    left = {"id", *without}
    return sorted(
        str({k: v for k, v in row.items() if k not in left})
        for row in model.objects.values()
    )


def test_what_somebody_else_is_at_waits_and_is_counted_by_the_next_look(
    under_way, shelf, marin, client_of, monkeypatch
):
    """The entry is kept at once; the board catches up by itself, and says so."""
    now = under_way.clock.now()
    monkeypatch.setattr(log, "take", lambda key: False)
    services.note(
        under_way, "reading", by=marin, at=now, battery=shelf["K01"].pk, gauge_pct=31.0
    )
    assert FieldEntry.objects.filter(gauge_pct=31).exists()
    assert is_behind(under_way.pk)
    before = BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical
    client, url = client_of("observer"), reverse("field:board", args=[under_way.pk])
    old = client.get(url).context["board"].version

    monkeypatch.undo()
    poll = reverse("field:board_poll", args=[under_way.pk])
    page = client.get(poll, {"v": old})

    assert page.status_code == 200
    assert not is_behind(under_way.pk)
    assert BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical < before
    again = client.get(poll, {"v": page.context["board"].version})
    assert again.status_code == 204


def test_following_step_by_step_is_working_it_all_out(
    under_way, shelf, esker, drumlin, marin
):
    """Sixty entries in any order, late ones and strikes too: the same in the end."""
    dice = random.Random(5)
    rack, bay = services.yard_rack(under_way), under_way.bays.get()
    batteries = [shelf[tag] for tag in ("K01", "K02", "K03")]
    for number in range(60):
        at = under_way.clock.now() - timedelta(minutes=dice.randint(0, 200))
        how = {"by": marin, "at": at}
        battery = dice.choice(batteries)
        what = dice.randint(0, 5)
        if what == 0:
            out = dice.choice([one for one in batteries if one != battery])
            station = dice.choice([esker, drumlin])
            services.log_swap(
                under_way, station, battery=battery, battery_out=out, **how
            )
        elif what == 1:
            to = dice.choice([rack, log.Place.objects.get(pk=bay.pk)])
            services.log_move(under_way, battery, to=to, **how)
        elif what == 2 and number > 5:
            entry = dice.choice(
                FieldEntry.objects.exclude(kind="strike").order_by("pk")
            )
            services.strike(under_way, entry, because="no", **how)
        elif what == 3:
            services.log_station(under_way, esker, what="off_air", **how)
            services.log_station(
                under_way, esker, what="back", by=marin, at=at + timedelta(minutes=9)
            )
        else:
            gauge = float(dice.randint(0, 100))
            services.note(
                under_way, "reading", battery=battery.pk, gauge_pct=gauge, **how
            )
    kept = [rows(model) for model in (Placement, Conflict)]
    believed = dict(BatteryNow.objects.values_list("battery", "soc_typical"))

    log.rebuild(under_way.pk)
    beliefs.work_out(under_way)

    assert [rows(model) for model in (Placement, Conflict)] == kept
    for key, soc in BatteryNow.objects.values_list("battery", "soc_typical"):
        assert abs(soc - believed[key]) < 1e-6
