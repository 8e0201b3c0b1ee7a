"""The extension that lets one constraint say "same battery, overlapping time"."""

from django.contrib.postgres.operations import BtreeGistExtension
from django.db import migrations


class Migration(migrations.Migration):
    dependencies = []
    operations = [BtreeGistExtension()]
