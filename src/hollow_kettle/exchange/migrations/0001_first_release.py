"""The tables of the first release, in one step; those that came to it are replaced."""

import django.db.models.deletion
import hollow_kettle.clock
import uuid
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('exchange', '0001_uploads'), ('exchange', '0002_remembered_headings')]

    initial = True

    dependencies = [
        ('people', '0001_first_release'),
    ]

    operations = [
        migrations.CreateModel(
            name='Upload',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('purpose', models.CharField(max_length=40)),
                ('file_name', models.CharField(max_length=200)),
                ('content', models.BinaryField()),
                ('actor', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to='people.actor')),
                ('created_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
            ],
        ),
        migrations.CreateModel(
            name='Heading',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('purpose', models.CharField(max_length=40)),
                ('heading', models.CharField(max_length=80)),
                ('column', models.CharField(max_length=40)),
            ],
            options={
                'constraints': [models.UniqueConstraint(fields=('purpose', 'heading'), name='exchange_heading_once')],
            },
        ),
    ]
