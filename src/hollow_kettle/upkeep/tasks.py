"""What the worker does by itself to keep the club's data safe."""

from procrastinate.contrib.django import app

from hollow_kettle.plan import removed

from . import copies, room, troubles


@app.periodic(cron="41 * * * *")
@app.task(queue="backup", queueing_lock="backup", pass_context=False)
def back_up(timestamp: int) -> None:
    """Make the night's backup once it is due, and remove those past their time."""
    copies.adopt()
    if copies.is_due() and not room.is_full():
        copies.make()
        copies.forget_old()
    troubles.forget_old()
    removed.forget_old()


@app.task(queue="backup", queueing_lock="backup-now", pass_context=False)
def back_up_now() -> None:
    """Make a backup because somebody asked for one."""
    copies.make()
