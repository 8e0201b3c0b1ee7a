"""An event under way."""

import pytest

from hollow_kettle.field import services
from hollow_kettle.plan.rotation.making import make_rotation, work_out_further
from hollow_kettle.plan.rotation.services import publish


@pytest.fixture
def under_way(event, shelf, esker, drumlin, marin):
    """K01 at Esker and K02 at Drumlin, full at the start; K03 waits in the yard."""
    start = event.starts_at
    for tag in ("K01", "K02", "K03"):
        services.note(
            event, "reading", by=marin, at=start, battery=shelf[tag].pk, gauge_pct=100.0
        )
    services.log_swap(event, esker, battery=shelf["K01"], by=marin, at=start)
    services.log_swap(event, drumlin, battery=shelf["K02"], by=marin, at=start)
    rack = services.yard_rack(event)
    services.log_move(event, shelf["K03"], to=rack, by=marin, at=start)
    rotation = make_rotation(event, by=marin)
    work_out_further(rotation)
    publish(rotation)
    return event
