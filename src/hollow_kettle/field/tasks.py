"""What the worker does for the field by itself."""

from procrastinate.contrib.django import app

from hollow_kettle.plan.models import Event

from .services import work_out


@app.periodic(cron="* * * * *")
@app.task
def carry_beliefs_forward(timestamp: int) -> None:
    """Bring what is believed of each battery up to now, for events under way."""
    for event in Event.objects.filter(state=Event.State.RUNNING):
        work_out(event)
