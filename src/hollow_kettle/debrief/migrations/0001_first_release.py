"""The tables of the first release, in one step; those that came to it are replaced."""

import django.contrib.postgres.fields
import django.db.models.deletion
import hollow_kettle.clock
import uuid
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('debrief', '0001_what_people_add')]

    initial = True

    dependencies = [
        ('people', '0001_first_release'),
        ('plan', '0001_first_release'),
    ]

    operations = [
        migrations.CreateModel(
            name='Causes',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event', models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, related_name='causes', to='plan.event')),
                ('baseline', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to='plan.rotation')),
                ('asked_at', models.DateTimeField(default=hollow_kettle.clock.real_now)),
                ('basis', models.CharField(blank=True, max_length=64)),
                ('progress', models.FloatField(default=0)),
                ('content', models.JSONField(null=True)),
                ('words', models.JSONField(default=dict)),
                ('has_failed', models.BooleanField(default=False)),
            ],
        ),
        migrations.CreateModel(
            name='Contact',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='contacts', to='plan.event')),
                ('station', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='contacts', to='plan.station')),
                ('at', models.DateTimeField()),
                ('mode', models.CharField(blank=True, max_length=16)),
            ],
            options={
                'ordering': ['at'],
            },
        ),
        migrations.CreateModel(
            name='Shortfall',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('event', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='shortfalls', to='plan.event')),
                ('station', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='shortfalls', to='plan.station')),
                ('what', models.CharField(choices=[('off_air', 'off the air'), ('low_power', 'low power'), ('shed', 'shed'), ('reserve', 'into reserve')], max_length=10)),
                ('starts_at', models.DateTimeField()),
                ('ends_at', models.DateTimeField()),
                ('covers', django.contrib.postgres.fields.ArrayField(base_field=models.CharField(max_length=120), blank=True, default=list, size=None)),
                ('why', models.CharField(blank=True, choices=[('', 'not known'), ('ended', 'the battery was at its end'), ('plug', 'plug, lead or terminal'), ('fuse', 'fuse or breaker'), ('switch', 'switch or setting'), ('battery', 'battery'), ('charging', 'charger, controller or source'), ('load', 'radio or other load'), ('placed', 'where things stood or ran'), ('none', 'nothing found')], max_length=10)),
                ('people', models.PositiveIntegerField(blank=True, null=True)),
                ('done', models.CharField(blank=True, max_length=300)),
                ('note', models.CharField(blank=True, max_length=500)),
                ('is_dropped', models.BooleanField(default=False)),
                ('made_by', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to='people.actor')),
                ('made_at', models.DateTimeField(default=hollow_kettle.clock.real_now)),
            ],
            options={
                'ordering': ['starts_at'],
                'constraints': [models.CheckConstraint(condition=models.Q(('ends_at__gt', models.F('starts_at'))), name='debrief_shortfall_ends_after_start'), models.CheckConstraint(condition=models.Q(('people', None), ('people__range', (0, 100000)), _connector='OR'), name='debrief_shortfall_possible')],
            },
        ),
        migrations.CreateModel(
            name='Photo',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('shortfall', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='photos', to='debrief.shortfall')),
                ('content', models.BinaryField()),
                ('words', models.CharField(blank=True, max_length=200)),
                ('added_by', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to='people.actor')),
                ('added_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
            ],
            options={
                'ordering': ['added_at'],
            },
        ),
    ]
