"""What was read of a battery against what was believed of it."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("log", "0001_first_release")]

    operations = [
        migrations.AddField(
            model_name="batterynow",
            name="contradicts",
            field=models.CharField(blank=True, default="", max_length=200),
        )
    ]
