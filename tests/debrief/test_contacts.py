"""Contacts out of ADIF files, by its published field rules; what outages cost."""

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hollow_kettle.debrief.contacts.services import import_contacts
from hollow_kettle.debrief.models import Contact
from hollow_kettle.field import services as field
from hollow_kettle.log.services import rebuild
from powercore.debrief.contacts import cost_of
from powercore.debrief.shortfall import Stretch
from tests.conftest import set_clock


def record(*fields, end="<EOR>"):
    """A record of (name, value) pairs, each with its length."""
    return "".join(f"<{name}:{len(value)}>{value}" for name, value in fields) + end


HEAD = "Made by hand <ADIF_VER:5>3.1.4 <EOH>\n"
AT = (("QSO_DATE", "20260627"), ("TIME_ON", "1405"))


def test_fields_are_read_as_the_form_says(event, esker):
    """Lower case, seconds, a submode, text before the header; UTC in any zone."""
    event.zone = "America/Chicago"
    content = HEAD + "\n".join(
        [
            record(("call", "QZ1AB"), *AT, ("mode", "SSB"), ("submode", "USB")),
            record(("CALL", "QZ2CD"), ("QSO_DATE", "20260627"), ("TIME_ON", "140559"),
                   ("MODE", "CW"), end="<eor>"),
            record(("CALL", "QZ3EF"), ("QSO_DATE", "20260626"), ("TIME_ON", "1405")),
        ]
    )  # fmt: skip

    read = import_contacts(event, esker, content.encode())

    assert (read.kept, read.outside) == (2, 1)
    assert [(f"{one.at:%H:%M:%S}", one.mode) for one in Contact.objects.all()] == [
        ("14:05:00", "USB"),
        ("14:05:59", "CW"),
    ]
    assert import_contacts(event, esker, content.encode()).kept == 2
    assert Contact.objects.count() == 2


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("", "no ADIF file"),
        ("rubbish", "no ADIF file"),
        ("<CALL:99>QZ1AB", "No record"),
        (record(("QSO_DATE", "20260627")), "missing or wrong in record 1"),
        (record(*AT) + record(("QSO_DATE", "27062026"), AT[1]), "record 2"),
        (record(("QSO_DATE", "20260627"), ("TIME_ON", "2561")), "record 1"),
        (record(*AT) * 10_001, "more than 10,000"),
    ],
)
def test_a_file_that_can_not_be_read_changes_nothing(content, said, event, esker):
    """What is wrong is said, with the number of the record."""
    Contact.objects.create(event=event, station=esker, at=event.starts_at)

    with pytest.raises(ValidationError, match=said):
        import_contacts(event, esker, content.encode())

    assert Contact.objects.count() == 1


def test_an_outage_costs_the_rate_around_it():
    """30 in the hour before, 30 in the hour after: 30 min cost 15 (by hand)."""
    times = [2.0 * n for n in range(30)] + [90 + 2.0 * n for n in range(30)]
    outage = Stretch(start_min=60, end_min=90)

    found = cost_of(outage, times, [outage])

    assert found is not None
    assert found.typical == pytest.approx(15)
    assert 12 < found.low < 15 < found.high < 18  # 60 ± 1.28 times 7.7, a quarter
    near = Stretch(start_min=0, end_min=60)
    assert cost_of(outage, times[30:], [outage, near]).typical == pytest.approx(15)
    all_day = Stretch(start_min=0, end_min=500)
    assert cost_of(all_day, [], [Stretch(start_min=0, end_min=600)]) is None


def test_the_page_takes_a_file_and_says_what_the_outage_cost(
    event, esker, marin, client_of
):
    """20 an hour around 30 min off the air are 10; an observer may look only."""
    set_clock(event, 480)
    start = event.starts_at
    for what, minutes in (("off_air", 60), ("back", 90)):
        field.log_station(
            event, esker, what=what, by=marin, refresh=False,
            at=start + timedelta(minutes=minutes),
        )  # fmt: skip
    rebuild(event.pk)
    moments = [
        start + timedelta(minutes=3 * n) for n in range(50) if not 60 <= 3 * n < 90
    ]
    content = "".join(
        record(("QSO_DATE", f"{one:%Y%m%d}"), ("TIME_ON", f"{one:%H%M}"))
        for one in moments
    )
    url = reverse("debrief:contacts", args=[event.pk])

    def send(role, text):
        file = SimpleUploadedFile("log.adi", text.encode())
        data = {"station": esker.pk, "file": file}
        return client_of(role).post(url, data, follow=True)

    assert send("observer", content).status_code == 403
    assert "no ADIF file" in send("coordinator", "rubbish").content.decode()
    said = " ".join(send("coordinator", content).content.decode().split())
    assert "40 contacts kept" in said
    assert "30 min" in said
    assert "about 10 (" in said
