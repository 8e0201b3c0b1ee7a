"""Events and what belongs to them: places, stations, sources, crews, rotations."""

from __future__ import annotations

import uuid
from datetime import datetime, timedelta

from django.db import models
from django.db.models import F, Q
from django.urls import reverse

from hollow_kettle.clock import Clock, real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Asset, EquipmentType
from powercore.event import scenario as core
from powercore.event.joining import TIE
from powercore.event.problem import SERVE, WAIT
from powercore.event.scenario import MOST_PEOPLE, USUAL_PEOPLE
from powercore.physics.loads import listening_share

SKY_CHOICES = [
    ("none", "no sun at all"),
    ("forecast", "the forecast"),
    ("clear", "a clear sky"),
]


class Purpose(models.TextChoices):
    """What an event is for; reserve and sky counted on follow from it."""

    CONTEST = "contest", "contest"
    EXERCISE = "exercise", "exercise"
    EMERGENCY = "emergency", "emergency"
    DEMONSTRATION = "demonstration", "demonstration"


class Event(models.Model):
    """A Field Day, an exercise, an emergency: a span of time with stations."""

    class State(models.TextChoices):
        PLANNED = "planned", "being planned"
        RUNNING = "running", "under way"
        CLOSED = "closed", "closed"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80)
    zone = models.CharField(max_length=60)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    state = models.CharField(max_length=8, choices=State, default=State.PLANNED)
    clock_offset = models.DurationField(default=timedelta(0))
    lateness_min = models.PositiveSmallIntegerField(
        "usual lateness of a walk", default=10
    )
    batteries = models.ManyToManyField(Asset, blank=True, related_name="events")
    purpose = models.CharField(max_length=14, choices=Purpose, default=Purpose.EXERCISE)
    is_own_power = models.BooleanField("own power only", default=False)
    first_tier_sky = models.CharField(
        "first tier counts on", max_length=8, choices=SKY_CHOICES, default="none"
    )
    other_sky = models.CharField(
        "others count on", max_length=8, choices=SKY_CHOICES, default="forecast"
    )
    yard_sky = models.CharField(
        "panels at the yard count with",
        max_length=8,
        choices=SKY_CHOICES,
        default="none",
    )
    settle_min = models.PositiveSmallIntegerField("rest before charging", default=0)
    #: How cold batteries get where they charge; None: not counted. [°C]
    yard_cold_c = models.FloatField("cold in the yard", null=True, blank=True)
    lithium_reserve_pct = models.FloatField("reserve of lithium", null=True, blank=True)
    lead_reserve_pct = models.FloatField("reserve of lead-acid", null=True, blank=True)
    two_at_night = models.BooleanField("two at night", default=True)
    sky_origin = models.CharField(max_length=120, blank=True)
    copied_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="copies"
    )

    class Meta:
        ordering = ["-starts_at"]
        constraints = [
            models.CheckConstraint(
                name="plan_event_reserves",
                condition=(
                    Q(lithium_reserve_pct=None) | Q(lithium_reserve_pct__range=(0, 90))
                )
                & (Q(lead_reserve_pct=None) | Q(lead_reserve_pct__range=(0, 90))),
            ),
            models.CheckConstraint(
                name="plan_event_settle", condition=Q(settle_min__range=(0, 1440))
            ),
            models.CheckConstraint(
                name="plan_event_cold",
                condition=Q(yard_cold_c=None) | Q(yard_cold_c__range=(-60, 60)),
            ),
            models.CheckConstraint(
                name="plan_event_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        """The event's page in the Plan."""
        return reverse("plan:event_detail", args=[self.pk])

    @property
    def units(self) -> models.QuerySet[Asset]:
        """Its batteries as plans move them: of a joined set only the first."""
        return self.batteries.exclude(pk__in=self.joined.values("battery"))

    @property
    def set_tags(self) -> dict[uuid.UUID, str]:
        """Tags of its joined sets, by the first battery of each."""
        found: dict[uuid.UUID, str] = {}
        for row in self.joined.select_related("lead", "battery"):
            before = found.get(row.lead_id, row.lead.tag)
            found[row.lead_id] = f"{before}{TIE}{row.battery.tag}"
        return found

    @property
    def unit_tags(self) -> dict[uuid.UUID, str]:
        """What plans move, by its tag or those of its set, in order of tags."""
        units = self.units.order_by("tag").values_list("pk", "tag")
        sets = self.set_tags
        return {key: sets.get(key, tag) for key, tag in units}

    @property
    def clock(self) -> Clock:
        """The event's own clock."""
        return Clock(offset=self.clock_offset)

    @property
    def span_min(self) -> int:
        """Length. [min]"""
        return round((self.ends_at - self.starts_at).total_seconds() / 60)

    def minute_of(self, moment: datetime) -> float:
        """Minutes from the event's start to a moment."""
        return (moment - self.starts_at).total_seconds() / 60

    def moment_of(self, minute: float) -> datetime:
        """The moment some minutes after the event's start."""
        return self.starts_at + timedelta(minutes=minute)


class Site(models.Model):
    """A spot on the ground: a station's, or the charging yard's."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sites")
    name = models.CharField(max_length=80)
    latitude = models.FloatField(null=True, blank=True)
    longitude = models.FloatField(null=True, blank=True)
    altitude_m = models.FloatField(null=True, blank=True)
    is_yard = models.BooleanField(default=False)

    class Meta:
        ordering = ["-is_yard", "name"]
        constraints = [
            models.UniqueConstraint(fields=["event", "name"], name="plan_site_once"),
            models.UniqueConstraint(
                fields=["event"], condition=Q(is_yard=True), name="plan_one_yard"
            ),
            models.CheckConstraint(
                name="plan_site_on_earth",
                condition=(Q(latitude=None) | Q(latitude__range=(-90, 90)))
                & (Q(longitude=None) | Q(longitude__range=(-180, 180))),
            ),
        ]

    def __str__(self) -> str:
        return self.name


class HorizonPoint(models.Model):
    """How high something stands over the horizon in a direction, seen from a site."""

    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="horizon")
    azimuth = models.FloatField()
    height = models.FloatField()

    class Meta:
        ordering = ["azimuth"]
        constraints = [
            models.UniqueConstraint(
                fields=["site", "azimuth"], name="plan_horizon_once"
            ),
            models.CheckConstraint(
                name="plan_horizon_possible",
                condition=Q(azimuth__range=(0, 360)) & Q(height__range=(0, 90)),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.azimuth:g}°: {self.height:g}°"


class SkyHour(models.Model):
    """The sky over an event from a moment on, until the next is given."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sky")
    at = models.DateTimeField()
    oktas = models.FloatField("cloud", default=0)
    air_c = models.FloatField("air", default=20)
    wind_ms = models.FloatField("wind", default=1)
    global_w = models.FloatField(null=True, blank=True)
    beam_w = models.FloatField(null=True, blank=True)
    diffuse_w = models.FloatField(null=True, blank=True)

    class Meta:
        ordering = ["at"]
        constraints = [
            models.UniqueConstraint(fields=["event", "at"], name="plan_sky_once"),
            models.CheckConstraint(
                name="plan_sky_possible",
                condition=Q(oktas__range=(0, 8))
                & Q(air_c__range=(-60, 60))
                & Q(wind_ms__range=(0, 80)),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.at:%Y-%m-%d %H:%M}Z: {self.oktas:g}/8"


class Walk(models.Model):
    """Walking minutes between two sites, where somebody knows better than the map."""

    a = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    b = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    minutes = models.PositiveSmallIntegerField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["a", "b"], name="plan_walk_once"),
            models.CheckConstraint(
                name="plan_walk_possible",
                condition=Q(minutes__range=(1, 600)) & ~Q(a=F("b")),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.a} – {self.b}: {self.minutes} min"


class Station(models.Model):
    """A station of an event: its tier, its place, how a swap is made there."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="stations")
    site = models.OneToOneField(Site, on_delete=models.PROTECT, related_name="station")
    name = models.CharField(max_length=60)
    purpose = models.CharField(max_length=60, blank=True)
    tier = models.PositiveSmallIntegerField(default=2)
    changeover_s = models.PositiveSmallIntegerField("changeover", default=120)
    disconnect_v = models.FloatField("disconnect", null=True, blank=True)
    reconnect_v = models.FloatField("reconnect", null=True, blank=True)
    rest_min = models.PositiveSmallIntegerField("rest before reconnect", default=0)
    main_fuse_a = models.FloatField("main fuse", null=True, blank=True)
    feed_m = models.FloatField("feed, one way", null=True, blank=True)
    feed_awg = models.PositiveSmallIntegerField("feed wire", null=True, blank=True)
    operators = models.CharField(max_length=120, blank=True)
    spread_pct = models.FloatField("use may differ by", default=15)
    low_words = models.CharField("words for low power", max_length=120, blank=True)
    watch_words = models.CharField("words for watch only", max_length=120, blank=True)
    #: How many batteries may wait there beside the one in use; operators swap.
    spares = models.PositiveSmallIntegerField("spares kept there", default=0)
    #: Inside its tier, what a minute off the air there counts.
    weight = models.FloatField(default=1)
    #: How cold batteries get there; None: not counted. [°C]
    cold_c = models.FloatField("cold there", null=True, blank=True)

    class Meta:
        ordering = ["tier", "name"]
        constraints = [
            models.CheckConstraint(
                name="plan_station_spread", condition=Q(spread_pct__range=(0, 100))
            ),
            models.UniqueConstraint(fields=["event", "name"], name="plan_station_once"),
            models.CheckConstraint(
                name="plan_station_tier", condition=Q(tier__range=(1, 9))
            ),
            models.CheckConstraint(
                name="plan_station_spares", condition=Q(spares__range=(0, 20))
            ),
            models.CheckConstraint(
                name="plan_station_weight", condition=Q(weight__range=(0.1, 10))
            ),
            models.CheckConstraint(
                name="plan_station_cold",
                condition=Q(cold_c=None) | Q(cold_c__range=(-60, 60)),
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        """The station's page."""
        return reverse("plan:station_detail", args=[self.event_id, self.pk])


class StationEquipment(models.Model):
    """Equipment at a station, and the power step it is run at."""

    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="equipment"
    )
    equipment = models.ForeignKey(EquipmentType, on_delete=models.PROTECT)
    count = models.PositiveSmallIntegerField(default=1)
    step = models.CharField(
        max_length=8, choices=[("full", "full"), ("low", "low power")], default="full"
    )
    efficiency_pct = models.FloatField("converter's efficiency", default=100)
    idle_w = models.FloatField("converter's own draw", default=0)
    fills_wh = models.FloatField("full after", null=True, blank=True)
    used_from = models.DateTimeField(null=True, blank=True)
    used_until = models.DateTimeField(null=True, blank=True)
    shed_pct = models.FloatField("shed at", null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_equipment_count", condition=Q(count__range=(1, 50))
            )
        ]

    def __str__(self) -> str:
        return f"{self.count} × {self.equipment}"


class OperatingPattern(models.Model):
    """How a station is operated: shares of time and the mode's duty factor."""

    key = models.SlugField(primary_key=True, max_length=40)
    name = models.CharField(max_length=60)
    transmit_share = models.FloatField()
    standby_share = models.FloatField(default=0)
    duty = models.FloatField()
    origin = models.CharField(max_length=120)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class OpenHours(models.Model):
    """A stretch in which a station is open, and how it is operated then."""

    station = models.ForeignKey(Station, on_delete=models.CASCADE, related_name="hours")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    pattern = models.ForeignKey(OperatingPattern, on_delete=models.PROTECT)
    step = models.CharField(
        max_length=8,
        choices=[("full", "full"), ("low", "low power"), ("watch", "receive watch")],
        default="full",
    )
    on_for_min = models.PositiveSmallIntegerField("listens for", default=0)
    every_min = models.PositiveSmallIntegerField("every", default=0)

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            models.CheckConstraint(
                name="plan_hours_windows",
                condition=Q(on_for_min=0) | Q(every_min__gte=F("on_for_min")),
            ),
            models.CheckConstraint(
                name="plan_hours_end_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.station}: {self.pattern}"

    @property
    def on_share(self) -> float:
        """Share of the time that it is switched on. (0 to 1)"""
        return listening_share(self.on_for_min, self.every_min)

    @property
    def lasts_times(self) -> float:
        """How many times as long a battery lasts as with everything always on."""
        return 1 / self.on_share


class Joined(models.Model):
    """A battery that stays joined to another for the event: they move as one."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="joined")
    lead = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="+")
    battery = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="+")

    class Meta:
        ordering = ["lead__tag", "battery__tag"]
        constraints = [
            models.UniqueConstraint(
                fields=["event", "battery"], name="plan_joined_once"
            ),
            models.CheckConstraint(
                name="plan_joined_to_another", condition=~Q(lead=F("battery"))
            ),
        ]

    def __str__(self) -> str:
        return f"{self.lead.tag}+{self.battery.tag}"


class Source(models.Model):
    """Where the charging yard's power comes from."""

    class Kind(models.TextChoices):
        MAINS = "mains", "mains"
        GENERATOR = "generator", "generator"
        BUFFER = "buffer", "buffer bank"
        VEHICLE = "vehicle", "vehicle, engine on"
        SUN = "sun", "panels"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sources")
    name = models.CharField(max_length=60)
    kind = models.CharField(max_length=10, choices=Kind)
    max_w = models.FloatField("most at once")
    energy_wh = models.FloatField("energy it holds", null=True, blank=True)
    capacity_wh = models.FloatField("energy it can hold", null=True, blank=True)
    max_va = models.FloatField("apparent power", null=True, blank=True)
    other_w = models.FloatField("other things on it", default=0)
    quiet_from = models.TimeField(null=True, blank=True)
    quiet_until = models.TimeField(null=True, blank=True)
    is_quiet_waived = models.BooleanField("quiet hours waived", default=False)
    quarter_l_h = models.FloatField("burns at a quarter", null=True, blank=True)
    full_l_h = models.FloatField("burns at full power", null=True, blank=True)
    tank_l = models.FloatField("tank", null=True, blank=True)
    on_hand_l = models.FloatField("fuel on hand", null=True, blank=True)
    refuel_min = models.PositiveSmallIntegerField("refuelling takes", default=25)
    filled_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="banks"
    )
    fill_w = models.FloatField("filled with", default=0)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                name="plan_source_possible",
                condition=Q(max_w__range=(1, 100_000))
                & (Q(energy_wh=None) | Q(energy_wh__range=(0, 1_000_000)))
                & (~Q(kind="buffer") | Q(energy_wh__isnull=False)),
            )
        ]

    def __str__(self) -> str:
        return self.name


class SourceWindow(models.Model):
    """When a source may run: mains while the hall is open, a generator by day."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="windows")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            models.CheckConstraint(
                name="plan_window_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            )
        ]

    def __str__(self) -> str:
        return f"{self.source}: {self.starts_at:%H:%M}–{self.ends_at:%H:%M}Z"


class StationSupply(models.Model):
    """Power at a station itself: it feeds the load first."""

    class Kind(models.TextChoices):
        MAINS = "mains", "mains"
        GENERATOR = "generator", "generator"
        VEHICLE = "vehicle", "vehicle, engine on"

    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="supplies"
    )
    kind = models.CharField(max_length=10, choices=Kind)
    name = models.CharField(max_length=60, blank=True)
    max_w = models.FloatField("most at once")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    charges = models.BooleanField("also charges the battery there", default=False)
    transfer_s = models.FloatField("break at the transfer", default=0)

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            models.CheckConstraint(
                name="plan_supply_possible",
                condition=Q(max_w__range=(1, 20_000))
                & Q(transfer_s__range=(0, 60))
                & Q(ends_at__gt=F("starts_at")),
            )
        ]

    def __str__(self) -> str:
        return self.name or self.get_kind_display()


class PanelArray(models.Model):
    """Panels on one controller, at a station or for a source of the yard."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="arrays")
    station = models.ForeignKey(
        Station, null=True, blank=True, on_delete=models.CASCADE, related_name="arrays"
    )
    source = models.ForeignKey(
        Source, null=True, blank=True, on_delete=models.CASCADE, related_name="arrays"
    )
    name = models.CharField(max_length=60)
    panel = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    count = models.PositiveSmallIntegerField("in parallel", default=1)
    vmp_v = models.FloatField("max-power voltage")
    imp_a = models.FloatField("max-power current")
    voc_v = models.FloatField("open-circuit voltage")
    isc_a = models.FloatField("short-circuit current")
    power_pct_per_c = models.FloatField("power against warmth", default=-0.4)
    tilt = models.FloatField(default=30)
    azimuth = models.FloatField("faces", default=180)
    turns = models.PositiveSmallIntegerField("turned a day", default=0)
    is_on_ground = models.BooleanField("lies on the ground", default=False)
    method = models.CharField(
        "controller",
        max_length=4,
        choices=[("mppt", "tracking (MPPT)"), ("pwm", "plain (PWM)")],
        default="mppt",
    )
    max_a = models.FloatField("controller's limit", null=True, blank=True)
    cable_m = models.FloatField("cable, one way", default=5)
    cable_awg = models.PositiveSmallIntegerField("cable wire", default=12)
    dirt_pct = models.FloatField("dirt takes", default=2)
    factor = models.FloatField("reading against the model", default=1)
    factor_origin = models.CharField(max_length=120, blank=True)
    lit_from = models.TimeField("shaded until", null=True, blank=True)
    lit_until = models.TimeField("shaded after", null=True, blank=True)

    class Meta:
        ordering = ["name", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_array_somewhere",
                condition=Q(station__isnull=False) ^ Q(source__isnull=False),
            ),
            models.CheckConstraint(
                name="plan_array_possible",
                condition=Q(voc_v__gt=F("vmp_v"))
                & Q(vmp_v__gt=0)
                & Q(imp_a__gt=0)
                & Q(isc_a__gt=0)
                & Q(count__range=(1, 50))
                & Q(power_pct_per_c__range=(-1, 0))
                & Q(tilt__range=(0, 90))
                & Q(azimuth__range=(0, 360))
                & Q(turns__range=(0, 24))
                & Q(dirt_pct__range=(0, 90))
                & Q(factor__range=(0.05, 2)),
            ),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def watts(self) -> float:
        """Power as printed, all panels. [W]"""
        return self.vmp_v * self.imp_a * self.count


class Bay(models.Model):
    """Where one battery charges."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="bays")
    source = models.ForeignKey(Source, on_delete=models.PROTECT, related_name="bays")
    name = models.CharField(max_length=60)
    max_w = models.FloatField("charger output")
    chemistries = models.CharField(max_length=80, help_text="Keys, parted by commas.")
    ends_itself = models.BooleanField("ends a charge by itself", default=False)
    #: Why batteries may charge on it while nobody watches the yard; empty: they don't.
    unwatched_why = models.CharField("unwatched because", max_length=120, blank=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                name="plan_bay_possible", condition=Q(max_w__range=(1, 20_000))
            )
        ]

    def __str__(self) -> str:
        return self.name


class Crew(models.Model):
    """People on duty: who walks, or who watches the yard."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="crews")
    name = models.CharField(max_length=60)
    does = models.CharField(
        max_length=6, choices=[("walks", "walks"), ("yard", "watches the yard")]
    )
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    people = models.PositiveSmallIntegerField(default=USUAL_PEOPLE)

    class Meta:
        ordering = ["starts_at", "name"]
        constraints = [
            models.CheckConstraint(
                name="plan_crew_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
            models.CheckConstraint(
                name="plan_crew_people",
                condition=Q(people__range=(1, MOST_PEOPLE)),
            ),
        ]

    def __str__(self) -> str:
        return self.name


class Snapshot(models.Model):
    """An event as it was handed to the core, frozen: what a rotation was made for."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="snapshots")
    schema_version = models.PositiveSmallIntegerField()
    sha256 = models.CharField(max_length=64)
    content = models.JSONField()
    made_at = models.DateTimeField(default=real_now)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["event", "sha256"], name="plan_snapshot_once"
            )
        ]

    def __str__(self) -> str:
        return self.sha256[:12]


class Rotation(models.Model):
    """All legs of all batteries for an event: a draft, the published one, or past."""

    class State(models.TextChoices):
        DRAFT = "draft", "draft"
        PUBLISHED = "published", "published"
        SUPERSEDED = "superseded", "superseded"
        TAKEN_BACK = "taken_back", "taken back"

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="rotations")
    snapshot = models.ForeignKey(Snapshot, on_delete=models.PROTECT)
    number = models.PositiveIntegerField()
    state = models.CharField(max_length=10, choices=State, default=State.DRAFT)
    made_at = models.DateTimeField(default=real_now)
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    published_at = models.DateTimeField(null=True)
    from_min = models.PositiveIntegerField(default=0)
    off_air_min = models.FloatField()
    reserve_min = models.FloatField()
    unserved_wh = models.FloatField()
    walks = models.PositiveIntegerField()
    #: Of the walks, those during which the sun is down at some time.
    night_walks = models.PositiveIntegerField(default=0)
    bay_changes = models.PositiveIntegerField(default=0)
    #: Minutes that stations are on a lower power step than agreed.
    low_min = models.FloatField(default=0)
    #: Hours that engines run for charging alone, and what charging burns. [L]
    engine_h = models.FloatField(default=0)
    fuel_l = models.FloatField(default=0)
    #: Minutes by which reliefs lack the slack they should have.
    thin_min = models.FloatField(default=0)
    #: What a coordinator changed to make it, and of which rotation.
    change = models.CharField(max_length=200, blank=True)
    changed_from = models.ForeignKey(
        "self", null=True, on_delete=models.SET_NULL, related_name="changed_to"
    )

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(
                fields=["event", "number"], name="plan_rotation_number"
            ),
            models.UniqueConstraint(
                fields=["event"],
                condition=Q(state="published"),
                name="plan_one_published_rotation",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.get_state_display()} {self.number}"


class Leg(models.Model):
    """What one battery does between two whole minutes."""

    rotation = models.ForeignKey(
        Rotation, on_delete=models.CASCADE, related_name="legs"
    )
    kind = models.CharField(max_length=8)
    battery = models.UUIDField()
    place = models.UUIDField(null=True)
    crew = models.CharField(max_length=60, blank=True)
    round = models.PositiveIntegerField(null=True)
    start_min = models.IntegerField()
    end_min = models.IntegerField()
    start_soc = models.FloatField()
    end_soc = models.FloatField()

    class Meta:
        ordering = ["start_min", "end_min", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_leg_ends_after_start",
                condition=Q(end_min__gt=F("start_min")),
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.start_min}–{self.end_min}"

    @property
    def is_spare(self) -> bool:
        """Whether the battery waits at a station."""
        return self.kind == WAIT and self.place is not None

    @property
    def station(self) -> uuid.UUID | None:
        """The station where the battery is, in use or waiting."""
        return self.place if self.kind == SERVE or self.is_spare else None


class Pin(models.Model):
    """What every rotation of an event must keep between two times."""

    class Kind(models.TextChoices):
        STAYS = core.STAYS, "battery stays there"
        AWAY = core.AWAY, "keep away from there"
        NO_WALK = core.NO_WALK, "no walk there"
        NO_SWAP = core.NO_SWAP, "no swap there"
        LOW = core.LOW, "low power there"

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="pins")
    kind = models.CharField(max_length=8, choices=Kind)
    battery = models.ForeignKey(
        Asset, null=True, on_delete=models.CASCADE, related_name="pins"
    )
    #: A station or a bay; none: any station.
    place = models.UUIDField(null=True)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    made_at = models.DateTimeField(default=real_now)
    #: The draft that came with it; when that is taken back, the pin is lifted.
    draft = models.ForeignKey(
        Rotation, null=True, on_delete=models.SET_NULL, related_name="pins"
    )
    lifted_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["starts_at", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_pin_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            )
        ]

    def __str__(self) -> str:
        return self.get_kind_display()


class Search(models.Model):
    """A search for a better rotation: how far it is, and the best so far."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for the worker"
        RUNNING = "running", "looking"
        DONE = "done", "done"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "broke off"

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="searches")
    rotation = models.ForeignKey(
        Rotation, on_delete=models.CASCADE, related_name="searches"
    )
    best = models.ForeignKey(
        Rotation, null=True, on_delete=models.SET_NULL, related_name="found_by"
    )
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    passes = models.PositiveIntegerField(default=0)
    since = models.PositiveIntegerField(default=0)
    #: How much more use than planned the rotation should stand. [%]
    margin_pct = models.PositiveSmallIntegerField(default=0)
    #: Whether futures say what is better; then it plans for several margins in turn.
    by_futures = models.BooleanField(default=False)
    #: What its stations risk in futures: of what it began with, and of the best. [min]
    risk_start_min = models.FloatField(null=True)
    risk_min = models.FloatField(null=True)
    #: Whether it may choose low power for stations.
    may_lower = models.BooleanField(default=False)
    #: Minutes off the air of the first tier that no plan can be under, where worked
    #: out; it holds for plans that move batteries at half hours.
    least_min = models.FloatField(null=True)
    is_stop_asked = models.BooleanField(default=False)
    asked_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    asked_at = models.DateTimeField(default=real_now)
    heard_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    words = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["-asked_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["event"],
                condition=Q(state__in=["waiting", "running"]),
                name="plan_one_search_at_a_time",
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_state_display()}, {self.passes} passes"

    @property
    def is_active(self) -> bool:
        """Whether it waits or runs."""
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def took_s(self) -> float:
        """How long it has been going, or took. [s]"""
        return ((self.ended_at or real_now()) - self.asked_at).total_seconds()


class Trial(models.Model):
    """A rotation in many futures: asked for, or what came of it."""

    class CuresState(models.TextChoices):
        NOT_ASKED = "", "not asked for"
        ASKED = "asked", "being worked out"
        DONE = "done", "worked out"
        FAILED = "failed", "broke off"

    rotation = models.OneToOneField(
        Rotation, on_delete=models.CASCADE, related_name="trial"
    )
    asked_at = models.DateTimeField(default=real_now)
    #: `powercore.futures.stress.Stress` as JSON; None while it is worked out.
    content = models.JSONField(null=True)
    has_failed = models.BooleanField(default=False)
    #: What would help, once somebody asked: `powercore.futures.cures.Cures`.
    cures_state = models.CharField(
        max_length=6, choices=CuresState, default=CuresState.NOT_ASKED
    )
    cures = models.JSONField(null=True)

    def __str__(self) -> str:
        return f"trial of {self.rotation}"

    @property
    def is_active(self) -> bool:
        """Whether something of it is still worked out."""
        if self.cures_state == self.CuresState.ASKED:
            return True
        return self.content is None and not self.has_failed
