from django.contrib.postgres.operations import CreateCollation
from django.db import migrations, models


class Migration(migrations.Migration):
    """K2 comes before K11: numbers in tags are ordered by what they are worth."""

    dependencies = [
        ("shelf", "0009_kit_trials"),
    ]

    operations = [
        CreateCollation("as_counted", provider="icu", locale="und-u-kn-true"),
        migrations.AlterField(
            model_name="asset",
            name="tag",
            field=models.CharField(db_collation="as_counted", max_length=16),
        ),
    ]
