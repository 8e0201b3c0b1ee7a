"""The tables of the first release, in one step; those that came to it are replaced."""

import django.contrib.postgres.indexes
import django.db.models.deletion
import hollow_kettle.clock
import uuid
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('instruments', '0001_meters')]

    initial = True

    dependencies = [
        ('people', '0001_first_release'),
        ('plan', '0001_first_release'),
    ]

    operations = [
        migrations.CreateModel(
            name='Device',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('event', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='devices', to='plan.event')),
                ('name', models.CharField(max_length=40)),
                ('kind', models.CharField(choices=[('shunt', 'shunt meter'), ('controller', 'charge controller'), ('generator', 'generator panel')], max_length=12)),
                ('subject', models.UUIDField()),
                ('zero_a', models.FloatField(default=0.0, verbose_name='zero of amps')),
                ('gain_a', models.FloatField(default=1.0, verbose_name='factor of amps')),
                ('zero_v', models.FloatField(default=0.0, verbose_name='zero of volts')),
                ('token_digest', models.CharField(max_length=64, unique=True)),
                ('made_by', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='+', to='people.actor')),
                ('closed_at', models.DateTimeField(null=True)),
                ('minute', models.DateTimeField(null=True)),
                ('sent_in_minute', models.PositiveIntegerField(default=0)),
                ('noted_until', models.DateTimeField(null=True)),
            ],
            options={
                'ordering': ['name'],
                'constraints': [models.UniqueConstraint(fields=('event', 'name'), name='instruments_named'), models.CheckConstraint(condition=models.Q(('gain_a__range', (0.1, 10)), ('zero_a__range', (-2000, 2000)), ('zero_v__range', (-100, 1000))), name='instruments_possible')],
            },
        ),
        migrations.CreateModel(
            name='Sample',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('device', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='samples', to='instruments.device')),
                ('seq', models.BigIntegerField()),
                ('at', models.DateTimeField()),
                ('received_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
                ('volts', models.FloatField(null=True)),
                ('amps', models.FloatField(null=True)),
                ('amp_hours', models.FloatField(null=True)),
                ('celsius', models.FloatField(null=True)),
                ('is_running', models.BooleanField(null=True)),
                ('raw', models.JSONField()),
            ],
            options={
                'ordering': ['at'],
                'indexes': [django.contrib.postgres.indexes.BrinIndex(fields=['at'], name='instruments_sample_at'), models.Index(fields=['device', 'at'], name='instruments_sample_of'), models.Index(fields=['device', 'received_at'], name='instruments_sample_new')],
                'constraints': [models.UniqueConstraint(fields=('device', 'seq'), name='instruments_sample_once'), models.CheckConstraint(condition=models.Q(models.Q(('volts', None), ('volts__range', (-100, 1000)), _connector='OR'), models.Q(('amps', None), ('amps__range', (-2000, 2000)), _connector='OR'), models.Q(('amp_hours', None), ('amp_hours__range', (-100000, 100000)), _connector='OR'), models.Q(('celsius', None), ('celsius__range', (-60, 200)), _connector='OR')), name='instruments_no_absurdities')],
            },
        ),
    ]
