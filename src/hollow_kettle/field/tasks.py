"""What the worker does for the field by itself."""

from procrastinate.contrib.django import app

from hollow_kettle.plan.models import Event

from . import beliefs


@app.periodic(cron="* * * * *")
@app.task
def carry_beliefs_forward(timestamp: int) -> None:
    """Bring what is believed of each battery up to now, for events under way."""
    for event in Event.objects.filter(state=Event.State.RUNNING):
        beliefs.carry_forward(event)
