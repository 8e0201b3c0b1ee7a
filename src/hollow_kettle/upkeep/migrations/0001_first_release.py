"""The tables of the first release, in one step; those that came to it are replaced."""

import hollow_kettle.clock
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('upkeep', '0001_upkeep')]

    initial = True

    dependencies = [
    ]

    operations = [
        migrations.CreateModel(
            name='Backup',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('made_at', models.DateTimeField(db_index=True, default=hollow_kettle.clock.real_now)),
                ('machine', models.CharField(max_length=120)),
                ('file', models.CharField(blank=True, max_length=120)),
                ('size', models.BigIntegerField(default=0)),
                ('is_encrypted', models.BooleanField(default=False)),
                ('tested_at', models.DateTimeField(null=True)),
                ('trouble', models.CharField(blank=True, max_length=300)),
                ('is_good', models.BooleanField(default=False)),
                ('removed_at', models.DateTimeField(null=True)),
            ],
            options={
                'ordering': ['-made_at'],
            },
        ),
        migrations.CreateModel(
            name='Trouble',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('route', models.CharField(max_length=120)),
                ('kind', models.CharField(max_length=80)),
                ('place', models.CharField(max_length=160)),
                ('first_at', models.DateTimeField(default=hollow_kettle.clock.real_now)),
                ('last_at', models.DateTimeField(db_index=True, default=hollow_kettle.clock.real_now)),
                ('times', models.PositiveIntegerField(default=1)),
                ('request', models.CharField(blank=True, max_length=32)),
            ],
            options={
                'ordering': ['-last_at'],
                'constraints': [models.UniqueConstraint(fields=('route', 'kind', 'place'), name='upkeep_trouble_once')],
            },
        ),
    ]
