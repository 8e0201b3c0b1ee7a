from django.db import migrations


def forget(apps, schema_editor):
    """LiPo packs were given "one port both ways" unasked; most have no protection."""
    Battery = apps.get_model("shelf", "Battery")
    Battery.objects.filter(chemistry="lipo", protection="common").update(protection="")


class Migration(migrations.Migration):
    dependencies = [("shelf", "0003_protection_wire_and_people")]

    operations = [migrations.RunPython(forget, migrations.RunPython.noop)]
