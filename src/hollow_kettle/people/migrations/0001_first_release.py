"""The tables of the first release, in one step; those that came to it are replaced."""

import datetime
import django.contrib.auth.validators
import django.db.models.deletion
import django.utils.timezone
import hollow_kettle.clock
import hollow_kettle.people.models
import uuid
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):

    replaces = [('people', '0001_people_and_club'), ('people', '0002_plain_names_and_first_passwords'), ('people', '0003_words'), ('people', '0004_event_passes'), ('people', '0005_signed_in_and_deeds')]

    initial = True

    dependencies = [
        ('auth', '0012_alter_user_first_name_max_length'),
    ]

    operations = [
        migrations.CreateModel(
            name='PassTry',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('at', models.DateTimeField(db_index=True, default=hollow_kettle.clock.real_now)),
                ('digest', models.CharField(max_length=64)),
            ],
        ),
        migrations.CreateModel(
            name='User',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('password', models.CharField(max_length=128, verbose_name='password')),
                ('last_login', models.DateTimeField(blank=True, null=True, verbose_name='last login')),
                ('is_superuser', models.BooleanField(default=False, help_text='Designates that this user has all permissions without explicitly assigning them.', verbose_name='superuser status')),
                ('username', models.CharField(error_messages={'unique': 'A user with that username already exists.'}, help_text='Required. 150 characters or fewer. Letters, digits and @/./+/-/_ only.', max_length=150, unique=True, validators=[django.contrib.auth.validators.UnicodeUsernameValidator()], verbose_name='username')),
                ('first_name', models.CharField(blank=True, max_length=150, verbose_name='first name')),
                ('last_name', models.CharField(blank=True, max_length=150, verbose_name='last name')),
                ('email', models.EmailField(blank=True, max_length=254, verbose_name='email address')),
                ('is_staff', models.BooleanField(default=False, help_text='Designates whether the user can log into this admin site.', verbose_name='staff status')),
                ('is_active', models.BooleanField(default=True, help_text='Designates whether this user should be treated as active. Unselect this instead of deleting accounts.', verbose_name='active')),
                ('date_joined', models.DateTimeField(default=django.utils.timezone.now, verbose_name='date joined')),
                ('plain', models.CharField(blank=True, editable=False, error_messages={'unique': "That user name is taken, or reads like one that is: case and look-alike letters don't count."}, max_length=255, unique=True)),
                ('must_change', models.BooleanField(default=False, editable=False)),
                ('groups', models.ManyToManyField(blank=True, help_text='The groups this user belongs to. A user will get all permissions granted to each of their groups.', related_name='user_set', related_query_name='user', to='auth.group', verbose_name='groups')),
                ('user_permissions', models.ManyToManyField(blank=True, help_text='Specific permissions for this user.', related_name='user_set', related_query_name='user', to='auth.permission', verbose_name='user permissions')),
            ],
            options={
                'verbose_name': 'user',
                'verbose_name_plural': 'users',
                'abstract': False,
            },
            managers=[
                ('objects', hollow_kettle.people.models.PlainNames()),
            ],
        ),
        migrations.CreateModel(
            name='Actor',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('user', models.OneToOneField(blank=True, null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='actor', to=settings.AUTH_USER_MODEL)),
                ('name', models.CharField(max_length=80)),
                ('is_coordinator', models.BooleanField(default=False)),
                ('created_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
            ],
            options={
                'ordering': ['name'],
            },
        ),
        migrations.CreateModel(
            name='Club',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=80)),
                ('zone', models.CharField(default='UTC', max_length=60)),
                ('clock_offset', models.DurationField(default=datetime.timedelta(0))),
            ],
            options={
                'constraints': [models.CheckConstraint(condition=models.Q(('pk', 1)), name='people_one_club')],
            },
        ),
        migrations.CreateModel(
            name='Deed',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('at', models.DateTimeField(db_index=True, default=hollow_kettle.clock.real_now, editable=False)),
                ('by', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='deeds', to='people.actor')),
                ('kind', models.CharField(choices=[('added', 'added a person'), ('coordinator', 'added a coordinator'), ('link', 'made a link for a new password'), ('closed', 'closed an account'), ('club', "changed the club's name or time zone")], max_length=12)),
                ('about', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='people.actor')),
            ],
            options={
                'ordering': ['-at', '-pk'],
            },
        ),
        migrations.CreateModel(
            name='EventPass',
            fields=[
                ('uid', models.UUIDField(default=uuid.uuid4, editable=False, primary_key=True, serialize=False)),
                ('event_key', models.UUIDField(db_index=True)),
                ('event_name', models.CharField(max_length=80)),
                ('role', models.CharField(choices=[('station_lead', 'station lead'), ('logger', 'logger'), ('runner', 'runner'), ('observer', 'observer')], max_length=20)),
                ('station_key', models.UUIDField(blank=True, null=True)),
                ('link_digest', models.CharField(max_length=64, unique=True)),
                ('code_digest', models.CharField(max_length=64, unique=True)),
                ('made_by', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='+', to='people.actor')),
                ('made_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
                ('expires_at', models.DateTimeField()),
                ('revoked_at', models.DateTimeField(null=True)),
            ],
            options={
                'ordering': ['-made_at'],
                'constraints': [models.CheckConstraint(condition=models.Q(models.Q(('role', 'station_lead'), _negated=True), ('station_key__isnull', False), _connector='OR'), name='people_pass_lead_has_station')],
            },
        ),
        migrations.CreateModel(
            name='Guest',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('actor', models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, related_name='guest', to='people.actor')),
                ('event_pass', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='guests', to='people.eventpass')),
            ],
        ),
        migrations.CreateModel(
            name='SignedIn',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('session_key', models.CharField(max_length=40, unique=True)),
                ('user', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='+', to=settings.AUTH_USER_MODEL)),
                ('browser', models.CharField(max_length=80)),
                ('began_at', models.DateTimeField(default=hollow_kettle.clock.real_now, editable=False)),
                ('seen_at', models.DateTimeField(default=hollow_kettle.clock.real_now)),
            ],
        ),
        migrations.CreateModel(
            name='Duty',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('actor', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='duties', to='people.actor')),
                ('event_key', models.UUIDField()),
                ('station_key', models.UUIDField(blank=True, null=True)),
                ('role', models.CharField(choices=[('station_lead', 'station lead'), ('logger', 'logger'), ('runner', 'runner'), ('observer', 'observer')], max_length=20)),
            ],
            options={
                'constraints': [models.UniqueConstraint(fields=('actor', 'event_key', 'role', 'station_key'), name='people_duty_once', nulls_distinct=False), models.CheckConstraint(condition=models.Q(models.Q(('role', 'station_lead'), _negated=True), ('station_key__isnull', False), _connector='OR'), name='people_lead_has_station')],
            },
        ),
    ]
