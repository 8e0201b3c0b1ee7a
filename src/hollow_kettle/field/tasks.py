"""What the worker does for the field by itself."""

from procrastinate.contrib.django import app

from hollow_kettle.plan.models import Event

from . import beliefs
from .follow import follow, is_behind
from .meters import note_meters


@app.task
def follow_event(event: str) -> None:
    """Work out what follows from entries that came faster than it could be done."""
    found = Event.objects.filter(pk=event).first()
    if found is not None:
        follow(found, passes=20)


@app.periodic(cron="* * * * *")
@app.task
def carry_beliefs_forward(timestamp: int) -> None:
    """Bring what is believed of each battery up to now, for events under way."""
    for event in Event.objects.filter(state=Event.State.RUNNING):
        note_meters(event)
        if is_behind(event.pk):
            follow(event)
        beliefs.carry_forward(event)
