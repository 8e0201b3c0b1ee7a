"""Statistics over years."""

import pytest
from django.urls import reverse

from hollow_kettle.field import services as field
from hollow_kettle.plan.events.services import set_state
from powercore.debrief.learn import wilson


@pytest.mark.parametrize(
    ("hits", "count", "low", "high"),
    [
        (2, 50, 0.0110389, 0.1346009),
        (0, 20, 0.0, 0.1611252),
        (5, 20, 0.1118617, 0.4687009),
        (50, 1000, 0.0381303, 0.0653138),
    ],
)
def test_wilsons_interval(hits, count, low, high):
    """As statsmodels' proportion_confint(method="wilson") has it, 0.15.0."""
    assert wilson(hits, count) == pytest.approx((low, high), abs=1e-6)


def test_faults_and_batteries_of_closed_events_are_counted(
    event, shelf, marin, client_of
):
    """A plug and a fuse are connections, a battery is not; K01 holds 19 of 20 Ah."""
    for cause in ("plug", "fuse", "battery", "none"):
        field.note(
            event, "fault", by=marin, at=event.starts_at, symptom="no_power",
            cause=cause, note="dead",
        )  # fmt: skip
    url = reverse("debrief:years")
    assert "2 of 3" not in client_of("observer").get(url).content.decode()
    set_state(event, state="closed")

    text = " ".join(client_of("observer").get(url).content.decode().split())

    assert "2 of 3 in connections, fuses and switches: 21% to 94%" in text
    assert "<b>95%</b>" in text
    assert "No closed event has its causes worked out yet." in text
    assert "2 of 3" not in client_of("stranger").get(url).content.decode()
