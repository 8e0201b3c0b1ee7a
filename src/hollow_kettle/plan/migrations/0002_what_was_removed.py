"""What was removed from an event, kept for a while."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("plan", "0001_first_release")]

    operations = [
        migrations.AddField(
            model_name="changenote",
            name="removed",
            field=models.TextField(blank=True, default=""),
        )
    ]
