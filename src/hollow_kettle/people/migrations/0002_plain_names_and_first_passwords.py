"""Names are compared without case and look-alike letters; first passwords change."""

from django.db import migrations, models

import hollow_kettle.people.models
from hollow_kettle.people.names import plain_name

TAKEN = (
    "That sign-in name is taken, or reads like one that is: case and look-alike "
    "letters don't count."
)


def fill(apps, schema_editor):
    """Two names of before that read alike both go on, each as it is written."""
    seen = set()
    for user in apps.get_model("people", "User").objects.order_by("pk"):
        plain = plain_name(user.username)
        user.plain = f"{plain} {user.pk}" if plain in seen else plain
        user.save(update_fields=["plain"])
        seen.add(plain)


class Migration(migrations.Migration):

    dependencies = [("people", "0001_people_and_club")]

    operations = [
        migrations.AlterModelManagers(
            name="user",
            managers=[("objects", hollow_kettle.people.models.PlainNames())],
        ),
        migrations.AddField(
            model_name="user",
            name="must_change",
            field=models.BooleanField(default=False, editable=False),
        ),
        migrations.AddField(
            model_name="user",
            name="plain",
            field=models.CharField(
                blank=True, default="", editable=False, max_length=255
            ),
            preserve_default=False,
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AlterField(
            model_name="user",
            name="plain",
            field=models.CharField(
                blank=True,
                editable=False,
                error_messages={"unique": TAKEN},
                max_length=255,
                unique=True,
            ),
        ),
    ]
