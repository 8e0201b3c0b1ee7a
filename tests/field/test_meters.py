"""Meters: taken once, corrected, noted as readings; and what they show of trouble."""

import json
from datetime import timedelta

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.urls import reverse
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hollow_kettle.field import services
from hollow_kettle.field.physics import EventPhysics
from hollow_kettle.field.queries import board_of
from hollow_kettle.instruments import services as instruments
from hollow_kettle.instruments.models import Device, Sample
from hollow_kettle.log.models import BatteryNow, FieldEntry, Place, SourceOff
from powercore.gear.plant import Account, PlantBattery
from powercore.gear.standin import StandIn
from powercore.physics.battery import Pack
from tests.conftest import set_clock

URL = "/field/meters/samples/"


@pytest.fixture
def meter(under_way, marin):
    """Set up a meter; return it, and how it sends."""

    def make(kind, subject, **correction):
        device, token = instruments.make_device(
            under_way, by=marin, name=f"M {kind}", kind=kind, subject=subject,
            **correction,
        )  # fmt: skip

        def send(*samples, **more):
            return Client().post(
                URL, json.dumps({"samples": samples, **more}), "application/json",
                headers={"Authorization": f"Bearer {token}"},
            )  # fmt: skip

        return device, send

    return make


def stamp(moment):
    return moment.isoformat()


def test_a_sample_counts_once_corrected_and_the_raw_is_kept(meter, under_way, shelf):
    """What is wrong is named by its index, and the others are kept."""
    device, send = meter("shunt", shelf["K01"].pk, zero_a=0.3, gain_a=2.0, zero_v=0.1)
    at = stamp(under_way.clock.now())
    batch = [
        {"seq": 1, "at": at, "volts": 13.2, "amps": 2.3},
        {"seq": 2, "at": at, "volts": 4000},
        {"seq": "3", "at": at, "volts": 13},
        {"seq": 4, "at": "noon", "volts": 13},
        {"seq": 5, "at": stamp(under_way.clock.now() + timedelta(hours=1)), "volts": 1},
        {"seq": 6, "at": at},
        17,
    ]
    said = send(*batch).json()
    again = send(*batch).json()

    assert (said["kept"], again["kept"], again["repeats"]) == (1, 0, 1)
    assert [one["index"] for one in said["refused"]] == [1, 2, 3, 4, 5, 6]
    assert "between -100 and 1000 V" in said["refused"][0]["why"]
    kept = device.samples.get()
    assert kept.amps == pytest.approx((2.3 - 0.3) * 2.0)
    assert kept.volts == pytest.approx(13.1)
    assert kept.raw == {"volts": 13.2, "amps": 2.3, "at": at, "seq": 1}


def test_who_has_no_token_or_sends_too_often_is_told(meter, shelf, boss, under_way):
    """401, 422 for nonsense, 429; a closed meter sends no more."""
    device, send = meter("shunt", shelf["K01"].pk)
    assert Client().post(URL, "{}", "application/json").status_code == 401
    assert send().status_code == 422
    assert send({"seq": 1, "volts": 13}, sent_at="soon").status_code == 422
    for _ in range(instruments.MOST_A_MINUTE):
        last = send({"seq": 1, "volts": 13})
    assert last.status_code == 429
    boss.post(reverse("field:meter_close", args=[under_way.pk, device.pk]))
    assert send({"seq": 2, "volts": 13}).status_code == 401
    assert device.samples.count() == 1


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3)
    | st.dictionaries(
        st.sampled_from(["seq", "at", "volts", "amps", "samples", "running", "x"]),
        inner, max_size=4,
    ),
    max_leaves=12,
)  # fmt: skip


@settings(max_examples=80, suppress_health_check=list(HealthCheck))
@given(body=JSON)
def test_anything_sent_is_taken_or_said(meter, shelf, body):
    """No 500, whatever comes; what is refused leaves nothing behind."""
    Device.objects.all().delete()
    device, send = meter("shunt", shelf["K01"].pk)
    answer = send(*(body if isinstance(body, list) else [body]))

    assert answer.status_code in (200, 422)
    kept = answer.json().get("kept", 0)
    assert device.samples.count() == kept


def test_a_shunt_meter_is_believed_as_closely_as_the_plant_is_true(
    meter,
    under_way,
    shelf,
    esker,
):
    """Two hours of a stand-in with a zero of its own, taken off on the way in."""
    _, send = meter("shunt", esker.pk, zero_a=0.5)
    pack = Pack(chemistry="lifepo4", series=4, nameplate_ah=20, tested_ah=19)
    true = PlantBattery(pack=pack, true_ah=19, soc=1.0, account=Account())
    stand_in = StandIn(kind="shunt", battery=true, power_w=30, zero_a=0.5, seed=3)
    start = under_way.starts_at
    samples = []
    for second in range(0, 7201, 30):
        shown = stand_in.step(30 / 3600 if second else 0.0)
        samples.append(
            {"seq": second, "at": stamp(start + timedelta(seconds=second))} | shown
        )
    set_clock(under_way, 121)
    assert send(*samples).json()["kept"] == len(samples)
    set_clock(under_way, 131)
    send(*samples)

    noted = FieldEntry.objects.filter(device="meter M shunt", kind="reading")
    assert noted.count() == 12 + 1  # each ten minutes once, and the last sample's
    assert {entry.battery for entry in noted} == {shelf["K01"].pk}
    count = noted.order_by("effective_at")[11]
    # By hand: the counter shows the zero too, 0.5 A over 2 h; the belief knows of both.
    assert count.amps == pytest.approx(30 / 13.1, abs=0.15)
    line = next(s for s in board_of(under_way, under_way.clock.now()).stations
                if s.station == esker)  # fmt: skip
    assert line.battery.soc.typical == pytest.approx(true.soc, abs=0.08)


def test_a_generator_s_panel_notes_its_stop_and_start_once(meter, under_way):
    """One sample may be a flicker; two that agree are noted."""
    source = under_way.sources.get()
    _, send = meter("generator", source.pk)
    states = [True, True, False, True, False, False, False, True, True]
    for number, running in enumerate(states):
        set_clock(under_way, 120 + number)
        send({"seq": number, "running": running})

    (off,) = SourceOff.objects.filter(source_key=source.pk)
    minutes = [under_way.minute_of(at) for at in (off.started_at, off.ended_at)]
    assert minutes == pytest.approx([124, 127], abs=0.1)
    assert FieldEntry.objects.filter(kind="source").count() == 2


@pytest.mark.parametrize(
    ("shown", "words"),
    [
        ({"amps": 0.0}, "shows no charge into K03 on Bay 1, though it has power"),
        ({"amps": -5.0, "celsius": -4}, "K03 on Bay 1 is at -4 °C: too cold to charge"),
        ({"amps": -5.0, "celsius": 0}, "K03 on Bay 1 is at 0 °C: too cold to charge"),
        ({"amps": -5.0}, None),
    ],
)
def test_the_board_says_what_a_controller_shows(
    meter,
    under_way,
    shelf,
    marin,
    shown,
    words,
):
    """Nothing flowing, too cold; ten minutes later, that it is silent."""
    bay = under_way.bays.get()
    now = under_way.clock.now()
    for gauge in (40.0, 40.0):
        services.note(
            under_way, "reading", battery=shelf["K03"].pk, gauge_pct=gauge,
            by=marin, at=now,
        )  # fmt: skip
    services.log_move(
        under_way, shelf["K03"], to=Place.objects.get(pk=bay.pk), by=marin, at=now
    )
    _, send = meter("controller", bay.pk)
    send({"seq": 1, "volts": 13.6} | shown)
    seen = " ".join(board_of(under_way, now).worth_a_look)
    assert (words in seen) if words else ("M controller" not in seen)
    later = now + timedelta(minutes=11)
    assert "M controller is silent" in " ".join(board_of(under_way, later).worth_a_look)


def test_what_a_controller_counts_in_is_believed(meter, under_way, shelf, marin):
    """A bay that gives less than it should: what its counter says decides."""
    bay, now = under_way.bays.get(), under_way.clock.now()
    k03 = shelf["K03"]
    services.note(
        under_way, "reading", battery=k03.pk, gauge_pct=20.0, by=marin, at=now
    )
    services.log_move(under_way, k03, to=Place.objects.get(pk=bay.pk), by=marin, at=now)
    _, send = meter("controller", bay.pk)
    set_clock(under_way, 185)
    without = BatteryNow.objects.get(battery=k03.pk)
    planned = EventPhysics(under_way).joint_at(without, under_way.clock.now())[0]
    # 200 W would have given some 15 Ah in that hour; 6 Ah came.
    samples = [
        {"seq": n, "at": stamp(now + timedelta(minutes=n)), "volts": 13.9, "amps": -6,
         "amp_hours": -0.1 * n}
        for n in range(1, 62)
    ]  # fmt: skip
    send(*samples)
    reading = FieldEntry.objects.filter(kind="reading").latest("pk")
    assert reading.volts is None
    assert reading.amp_hours == pytest.approx(-5.8, abs=0.2)
    found = BatteryNow.objects.get(battery=k03.pk)
    told = EventPhysics(under_way).joint_at(found, under_way.clock.now())[0]
    assert told.typical < planned.typical - 0.08
    assert told.high - told.low < 0.5 * (planned.high - planned.low)
    gained = 6.0 / Pack(chemistry="lifepo4", series=4, nameplate_ah=20.0).trusted_ah
    assert told.typical == pytest.approx(0.2 + gained, abs=0.08)


def test_a_battery_that_is_hot_is_said(meter, under_way, shelf):
    """Its own chemistry's limit, on whatever it is."""
    _, send = meter("shunt", shelf["K01"].pk)
    send({"seq": 1, "volts": 13.0, "amps": 3.0, "celsius": 71})
    seen = " ".join(board_of(under_way, under_way.clock.now()).worth_a_look)
    assert "K01 is at 71 °C, above 45" in seen


def test_a_meter_s_file_is_taken_whole_or_not_and_counts_once(
    meter,
    under_way,
    shelf,
    boss,
):
    """Its headings may be others; a faulty row is named."""
    device, _ = meter("shunt", shelf["K01"].pk)
    url = reverse("field:meter_file", args=[under_way.pk, device.pk])
    rows = "Timestamp;V;Current\n" + "\n".join(
        f"2026-06-27 12:{m:02};13,{m:02};2.5" for m in range(0, 60, 5)
    )

    def upload(content):
        file = SimpleUploadedFile("meter.csv", content.encode())
        return boss.post(url, {"file": file}, follow=True).content.decode()

    assert "row 3, volts must be" in upload(rows.replace("13,05", "1305"))
    assert not Sample.objects.exists()
    assert "12 samples of M shunt are taken, 0 were there; 6 readings" in upload(rows)
    assert "0 samples of M shunt are taken, 12 were there; 0 readings" in upload(rows)
    assert "Nothing was taken" in upload("")


def test_a_meter_is_set_up_on_what_it_can_be_on(under_way, boss, shelf):
    """Its token is shown once; a panel is on a source, not on a battery."""
    url = reverse("field:meter_list", args=[under_way.pk])
    sent = {"name": "Panel", "kind": "generator", "subject": shelf["K01"].pk,
            "zero_a": "0", "gain_a": "1", "zero_v": "0"}  # fmt: skip
    page = boss.post(url, sent)
    assert "A generator panel is on one of the sources." in page.content.decode()
    page = boss.post(
        url, sent | {"subject": under_way.sources.get().pk, "gain_a": "20"}
    )
    assert "must be between 0.1 and 10" in page.content.decode()
    page = boss.post(
        url, sent | {"subject": under_way.sources.get().pk}
    ).content.decode()
    token = page.split('one-time">')[1].split("<")[0]
    assert instruments.device_of(token).name == "Panel"
    assert token not in boss.get(url).content.decode()


@given(seed=st.integers(0, 99), watts=st.floats(0, 200), steps=st.integers(1, 40))
def test_a_stand_in_counts_what_left_its_battery(seed, watts, steps):
    """Without noise, zero and faults its counter is the plant's own truth."""

    def run():
        pack = Pack(chemistry="lifepo4", series=4, nameplate_ah=20)
        true = PlantBattery(pack=pack, true_ah=18.0, soc=0.9, account=Account())
        made = StandIn(
            kind="shunt", battery=true, power_w=watts, noise_a=0, noise_v=0, seed=seed
        )
        return [made.step(0.1) for _ in range(steps)], true

    shown, true = run()
    assert shown == run()[0]
    assert shown[-1]["amp_hours"] == pytest.approx((0.9 - true.soc) * 18.0, abs=1e-3)
