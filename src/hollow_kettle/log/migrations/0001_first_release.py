"""The tables of the first release, in one step; those that came to it are replaced."""

import django.contrib.postgres.constraints
import django.contrib.postgres.fields
import django.contrib.postgres.operations
import django.db.models.constraints
import django.db.models.deletion
import hollow_kettle.clock
import hollow_kettle.log.models
import pgtrigger.compiler
import pgtrigger.migrations
import uuid
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('log', '0001_btree_gist'), ('log', '0002_log_and_projections'), ('log', '0003_shelf_entries'), ('log', '0004_tripped'), ('log', '0005_strikes_found'), ('log', '0006_source_off'), ('log', '0007_answered'), ('log', '0008_station_draw'), ('log', '0009_joint_belief'), ('log', '0010_waiting'), ('log', '0011_moves_and_calls'), ('log', '0012_alarms_taken_on'), ('log', '0013_conditions')]

    initial = True

    dependencies = [
        ('people', '0001_first_release'),
    ]

    operations = [
        # One constraint says "same battery, overlapping time".
        django.contrib.postgres.operations.BtreeGistExtension(
        ),
        migrations.CreateModel(
            name='Place',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('kind', models.CharField(choices=[('position', 'position'), ('spare_rack', 'spare rack'), ('bay', 'bay'), ('yard_rack', 'yard rack'), ('vehicle', 'vehicle'), ('person', 'person'), ('home', 'home'), ('station', 'at a station')], max_length=12)),
                ('name', models.CharField(max_length=80)),
                ('event_key', models.UUIDField(blank=True, db_index=True, null=True)),
                ('station_key', models.UUIDField(blank=True, null=True)),
                ('ordinal', models.PositiveSmallIntegerField(default=1)),
                ('is_open', models.BooleanField(default=True)),
            ],
            options={
                'ordering': ['ordinal', 'name'],
            },
        ),
        migrations.CreateModel(
            name='BatteryNow',
            fields=[
                ('battery', models.UUIDField(primary_key=True, serialize=False)),
                ('event_key', models.UUIDField(null=True)),
                ('place', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to='log.place')),
                ('since', models.DateTimeField(null=True)),
                ('soc_typical', models.FloatField()),
                ('soc_low', models.FloatField()),
                ('soc_high', models.FloatField()),
                ('as_of', models.DateTimeField(null=True)),
                ('read_at', models.DateTimeField(null=True)),
                ('evidence', models.CharField(max_length=200)),
                ('is_tripped', models.BooleanField(default=False)),
                ('base_tripped', models.BooleanField(default=False)),
                ('parts_soc', django.contrib.postgres.fields.ArrayField(base_field=models.FloatField(), default=list, size=None)),
                ('parts_factor', django.contrib.postgres.fields.ArrayField(base_field=models.FloatField(), default=list, size=None)),
                ('parts_sd', django.contrib.postgres.fields.ArrayField(base_field=models.FloatField(), default=list, size=None)),
                ('parts_at', models.DateTimeField(null=True)),
                ('begun', django.contrib.postgres.fields.ArrayField(base_field=models.FloatField(), default=list, size=None)),
                ('turns_begun', models.PositiveIntegerField(default=0)),
                ('base_typical', models.FloatField(null=True)),
                ('base_low', models.FloatField(null=True)),
                ('base_high', models.FloatField(null=True)),
                ('base_at', models.DateTimeField(null=True)),
            ],
        ),
        migrations.CreateModel(
            name='Conflict',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('kind', models.CharField(max_length=30)),
                ('at', models.DateTimeField()),
                ('place', models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, to='log.place')),
                ('battery', models.UUIDField(null=True)),
                ('other_battery', models.UUIDField(null=True)),
                ('entry_uid', models.UUIDField()),
                ('event_key', models.UUIDField(db_index=True, null=True)),
            ],
            options={
                'ordering': ['at'],
            },
        ),
        migrations.CreateModel(
            name='FieldEntry',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('uid', models.UUIDField(default=uuid.uuid4)),
                ('device', models.CharField(max_length=60)),
                ('payload_hash', models.CharField(max_length=64)),
                ('kind', models.CharField(choices=[('reading', 'reading'), ('swap', 'swap'), ('move', 'move'), ('source', 'source on or off'), ('off_air', 'off the air'), ('back', 'back on the air'), ('power_step', 'power step'), ('shed', 'shed'), ('restored', 'shed load back on'), ('note', 'note'), ('strike', 'strike'), ('check_out', 'checked out'), ('check_in', 'checked in'), ('hold', 'put on hold'), ('release', 'released'), ('charged', 'charge ended'), ('checked', 'switches and load checked'), ('told', 'crew told'), ('left', 'crew left'), ('stand_down', 'stand down'), ('all_clear', 'all clear'), ('seen', 'taken on'), ('fault', 'fault'), ('fixed', 'fault answered'), ('panel', 'panel reading')], max_length=12)),
                ('event_key', models.UUIDField(blank=True, db_index=True, null=True)),
                ('actor', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='entries', to='people.actor')),
                ('effective_at', models.DateTimeField()),
                ('device_at', models.DateTimeField(blank=True, null=True)),
                ('received_at', models.DateTimeField(default=hollow_kettle.clock.real_now)),
                ('skew_s', models.FloatField(blank=True, null=True)),
                ('battery', models.UUIDField(blank=True, null=True)),
                ('battery_out', models.UUIDField(blank=True, null=True)),
                ('place', models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='log.place')),
                ('place_out', models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='log.place')),
                ('station_key', models.UUIDField(blank=True, null=True)),
                ('source_key', models.UUIDField(blank=True, null=True)),
                ('is_on', models.BooleanField(blank=True, null=True)),
                ('step', models.CharField(blank=True, max_length=8)),
                ('volts', models.FloatField(blank=True, null=True)),
                ('amps', models.FloatField(blank=True, null=True)),
                ('amp_hours', models.FloatField(blank=True, null=True)),
                ('gauge_pct', models.FloatField(blank=True, null=True)),
                ('how', models.CharField(blank=True, max_length=10)),
                ('unplugged_min', models.FloatField(blank=True, null=True)),
                ('ah_in', models.FloatField(blank=True, null=True)),
                ('oktas', models.FloatField(blank=True, null=True)),
                ('tilt', models.FloatField(blank=True, null=True)),
                ('symptom', models.CharField(blank=True, max_length=12)),
                ('cause', models.CharField(blank=True, max_length=12)),
                ('fix', models.CharField(blank=True, max_length=300)),
                ('note', models.CharField(blank=True, max_length=500)),
                ('strikes', models.UUIDField(blank=True, null=True)),
                ('asset', models.UUIDField(blank=True, null=True)),
                ('to_whom', models.CharField(blank=True, max_length=80)),
                ('due_at', models.DateTimeField(blank=True, null=True)),
                ('damage', models.CharField(blank=True, max_length=300)),
                ('is_wet', models.BooleanField(blank=True, null=True)),
                ('missing', models.CharField(blank=True, max_length=300)),
                ('switches_off', models.BooleanField(blank=True, null=True)),
                ('load_off', models.BooleanField(blank=True, null=True)),
                ('answers', models.UUIDField(blank=True, null=True)),
                ('raw', models.JSONField(default=dict)),
                ('standing', models.CharField(choices=[('kept', 'kept'), ('quarantine', 'quarantine'), ('conflict', 'conflict')], default='kept', max_length=10)),
                ('standing_why', models.CharField(blank=True, max_length=200)),
            ],
            options={
                'ordering': ['effective_at', 'uid'],
                'indexes': [models.Index(fields=['battery', 'effective_at'], name='log_entry_battery'), models.Index(fields=['asset', 'effective_at'], name='log_entry_asset'), models.Index(fields=['event_key', 'effective_at'], name='log_entry_event'), models.Index(fields=['event_key', 'kind', 'effective_at'], name='log_entry_kind'), models.Index(condition=models.Q(('kind', 'strike')), fields=['strikes'], name='log_entry_struck'), models.Index(condition=models.Q(('answers__isnull', False)), fields=['answers'], name='log_entry_answered'), models.Index(condition=models.Q(('standing', 'quarantine')), fields=['event_key'], name='log_entry_aside')],
                'constraints': [models.UniqueConstraint(condition=models.Q(('standing', 'conflict'), _negated=True), fields=('device', 'uid'), name='log_entry_once'), models.CheckConstraint(condition=models.Q(models.Q(('kind', 'reading'), _negated=True), ('volts__isnull', False), ('amp_hours__isnull', False), ('gauge_pct__isnull', False), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_reading_reads'), models.CheckConstraint(condition=models.Q(models.Q(('kind', 'fault'), _negated=True), models.Q(('symptom', ''), _negated=True), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_fault_has_symptom'), models.CheckConstraint(condition=models.Q(models.Q(('kind', 'panel'), _negated=True), ('oktas__isnull', False), ('amps__isnull', False), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_panel_says_something'), models.CheckConstraint(condition=models.Q(models.Q(('kind', 'swap'), _negated=True), models.Q(('battery__isnull', False), ('place__isnull', False)), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_swap_has_place_and_battery'), models.CheckConstraint(condition=models.Q(models.Q(('kind', 'strike'), _negated=True), ('strikes__isnull', False), _connector='OR'), name='log_strike_has_target'), models.CheckConstraint(condition=models.Q(models.Q(('kind__in', ('check_out', 'check_in', 'hold', 'release', 'charged', 'checked')), _negated=True), ('asset__isnull', False), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_shelf_entry_has_asset'), models.CheckConstraint(condition=models.Q(models.Q(('kind__in', ('check_out', 'check_in')), _negated=True), ('place__isnull', False), models.Q(('standing', 'kept'), _negated=True), _connector='OR'), name='log_check_out_has_place'), models.CheckConstraint(condition=models.Q(('event_key__isnull', False), ('kind__in', ('reading', 'note', 'strike', 'check_out', 'check_in', 'hold', 'release', 'charged', 'checked')), _connector='OR'), name='log_field_entry_has_event'), models.CheckConstraint(condition=models.Q(models.Q(('volts__isnull', True), ('volts__range', (-100, 1000)), _connector='OR'), models.Q(('amps__isnull', True), ('amps__range', (-2000, 2000)), _connector='OR'), models.Q(('amp_hours__isnull', True), ('amp_hours__range', (-100000, 100000)), _connector='OR'), models.Q(('gauge_pct__isnull', True), ('gauge_pct__range', (0, 100)), _connector='OR'), models.Q(('ah_in__isnull', True), ('ah_in__range', (0, 100000)), _connector='OR'), models.Q(('oktas__isnull', True), ('oktas__range', (0, 8)), _connector='OR'), models.Q(('tilt__isnull', True), ('tilt__range', (0, 90)), _connector='OR')), name='log_no_absurdities')],
            },
        ),
        migrations.CreateModel(
            name='Placement',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('battery', models.UUIDField()),
                ('place', models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, to='log.place')),
                ('is_exclusive', models.BooleanField()),
                ('started_at', models.DateTimeField()),
                ('ended_at', models.DateTimeField(null=True)),
                ('entry_uid', models.UUIDField()),
            ],
            options={
                'ordering': ['started_at'],
                'indexes': [models.Index(fields=['place', 'started_at'], name='log_placement_at')],
                'constraints': [django.contrib.postgres.constraints.ExclusionConstraint(deferrable=django.db.models.constraints.Deferrable['DEFERRED'], expressions=[(models.F('battery'), '='), (hollow_kettle.log.models.TsTzRange('started_at', 'ended_at'), '&&')], name='log_battery_in_one_place'), django.contrib.postgres.constraints.ExclusionConstraint(condition=models.Q(('is_exclusive', True)), deferrable=django.db.models.constraints.Deferrable['DEFERRED'], expressions=[(models.F('place'), '='), (hollow_kettle.log.models.TsTzRange('started_at', 'ended_at'), '&&')], name='log_place_holds_one')],
            },
        ),
        migrations.CreateModel(
            name='SkySeen',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event_key', models.UUIDField(db_index=True)),
                ('oktas', models.FloatField()),
                ('started_at', models.DateTimeField()),
                ('ended_at', models.DateTimeField()),
                ('entry_uid', models.UUIDField()),
            ],
            options={
                'ordering': ['started_at'],
            },
        ),
        migrations.CreateModel(
            name='SourceOff',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event_key', models.UUIDField(db_index=True)),
                ('source_key', models.UUIDField()),
                ('started_at', models.DateTimeField()),
                ('ended_at', models.DateTimeField(null=True)),
                ('entry_uid', models.UUIDField()),
            ],
            options={
                'ordering': ['started_at'],
            },
        ),
        migrations.CreateModel(
            name='StationDraw',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event_key', models.UUIDField(db_index=True)),
                ('station_key', models.UUIDField(unique=True)),
                ('factor', models.FloatField()),
                ('sd', models.FloatField()),
                ('turns', models.PositiveIntegerField()),
            ],
            options={
                'ordering': ['station_key'],
            },
        ),
        migrations.CreateModel(
            name='StationSpan',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('event_key', models.UUIDField(db_index=True)),
                ('station_key', models.UUIDField()),
                ('what', models.CharField(max_length=10)),
                ('started_at', models.DateTimeField()),
                ('ended_at', models.DateTimeField(null=True)),
                ('entry_uid', models.UUIDField()),
            ],
            options={
                'ordering': ['started_at'],
            },
        ),
        migrations.CreateModel(
            name='Waiting',
            fields=[
                ('entry', models.BigIntegerField(primary_key=True, serialize=False)),
                ('event_key', models.UUIDField(db_index=True)),
            ],
        ),
        pgtrigger.migrations.AddTrigger(
            model_name='fieldentry',
            trigger=pgtrigger.compiler.Trigger(name='log_is_append_only', sql=pgtrigger.compiler.UpsertTriggerSql(func="RAISE EXCEPTION 'pgtrigger: Cannot update or delete rows from % table', TG_TABLE_NAME;", hash='3c83e2435cb45b3922c0b04911a659343dd7a2e6', operation='UPDATE OR DELETE', pgid='pgtrigger_log_is_append_only_b41ba', table='log_fieldentry', when='BEFORE')),
        ),
    ]
