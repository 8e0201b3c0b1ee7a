"""The database refuses tags that would be mistaken for one another."""

from django.db import migrations, models

from hollow_kettle.shelf.assets.tags import plain_tag


def fill(apps, schema_editor):
    """Two tags of before that look alike both stay, each as it is written."""
    seen = set()
    for asset in apps.get_model("shelf", "Asset").objects.order_by("pk"):
        plain = plain_tag(asset.tag)
        asset.plain = f"{plain} {asset.pk}" if plain in seen else plain
        asset.save(update_fields=["plain"])
        seen.add(plain)


class Migration(migrations.Migration):

    dependencies = [("shelf", "0005_what_was_accepted")]

    operations = [
        migrations.AddField(
            model_name="asset",
            name="plain",
            field=models.CharField(default="", editable=False, max_length=80),
            preserve_default=False,
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AddConstraint(
            model_name="asset",
            constraint=models.UniqueConstraint(
                fields=["plain"], name="shelf_plain_tag_once"
            ),
        ),
    ]
