"""Kits: what is in them, how they are wired, what was found, how they are packed."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.ranges import possible

from . import limits
from .asset import Asset
from .details import (
    CONNECTOR_CHOICES,
    GENDER_CHOICES,
    Detail,
    bundle,
    insulation,
    quantity,
    text,
)


class Kit(Detail):
    """A kit: where and how it is used, and what its card says."""

    LIMITS = limits.KIT
    WAYS = [("road", "by road"), ("foot", "on foot"), ("air", "by air")]

    low_c = quantity(5)
    high_c = quantity(35)
    travels = models.CharField(max_length=4, choices=WAYS, default="road")
    lift_kg = quantity(20)
    people = models.PositiveSmallIntegerField(default=1)
    hours = quantity(24)
    COVERS = [
        ("", "not noted"),
        ("none", "none"),
        ("splash", "splash-proof, or under a roof"),
        ("tight", "rain-tight"),
    ]
    cover = models.CharField(max_length=6, choices=COVERS, blank=True)
    feeds_building = models.BooleanField(default=False)
    is_fastened = models.BooleanField(default=True)
    is_restrained = models.BooleanField(default=True)
    purpose = text(200)
    #: Its boxes and bags with the litres that each holds: "lid 12, bag 25".
    boxes = text(200)
    steps = models.TextField(max_length=2000, blank=True)
    listening = models.TextField(max_length=500, blank=True)
    channels = models.TextField(max_length=1000, blank=True)

    class Meta:
        constraints = [possible("shelf_kit_possible", limits.KIT)]


class PathPart(models.Model):
    """One part of a kit's power path; what hangs on it comes after it."""

    class What(models.TextChoices):
        """Kinds of part."""

        BATTERY = "battery", "battery"
        FUSE = "fuse", "fuse or breaker"
        CABLE = "cable", "wire"
        JOINT = "joint", "connector"
        SWITCH = "switch", "switch"
        BLOCK = "block", "distribution block"
        CONVERTER = "converter", "converter"
        LOAD = "load", "radio or load"

    LIMITS = limits.PATH
    STYLES = [
        ("blade", "blade fuse"),
        ("cartridge", "cartridge fuse"),
        ("bolted", "bolted fuse"),
        ("breaker", "breaker"),
    ]

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="path")
    after = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.CASCADE, related_name="next"
    )
    ordinal = models.PositiveSmallIntegerField(default=0)
    what = models.CharField(max_length=10, choices=What)
    name = text(40)
    asset = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    amps = quantity()
    style = models.CharField(max_length=10, choices=STYLES, default="blade")
    from_battery_m = quantity(0.1)
    length_m = quantity()
    awg = models.PositiveSmallIntegerField(null=True, blank=True)
    area_mm2 = quantity()
    insulation = insulation()
    bundle = bundle()
    connector = models.CharField(max_length=20, choices=CONNECTOR_CHOICES, blank=True)
    gender = models.CharField(max_length=6, choices=GENDER_CHOICES, blank=True)
    is_reversed = models.BooleanField(default=False)
    mate_connector = models.CharField(
        max_length=20, choices=CONNECTOR_CHOICES, blank=True
    )
    mate_gender = models.CharField(max_length=6, choices=GENDER_CHOICES, blank=True)
    mate_reversed = models.BooleanField(default=False)
    is_live = models.BooleanField(default=False)
    is_on = models.BooleanField(default=True)
    lead_mohm = quantity(3)

    class Meta:
        ordering = ["ordinal", "pk"]
        constraints = [
            possible("shelf_path_part_possible", limits.PATH),
            models.CheckConstraint(
                name="shelf_path_part_has_its_asset",
                condition=~Q(what__in=("battery", "converter", "load"))
                | Q(asset__isnull=False),
            ),
            models.CheckConstraint(
                name="shelf_path_joint_has_connector",
                condition=~Q(what="joint") | ~Q(connector=""),
            ),
            models.CheckConstraint(
                name="shelf_path_rated_parts_have_amps",
                condition=~Q(what__in=("switch", "block"))
                | Q(amps__isnull=False)
                | Q(asset__isnull=False),
            ),
        ]

    def __str__(self) -> str:
        return self.name or f"{self.get_what_display()} {self.asset or ''}".strip()

    @property
    def key(self) -> str:
        """Its key in the core."""
        return f"p{self.pk}"


class ChargeWay(models.Model):
    """One way into a kit's batteries."""

    THROUGH = [
        ("", "the battery's charging terminals, or a port made for it"),
        ("load", "an outlet made for a load"),
        ("discharge", "the discharge side of the pack"),
    ]

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="charge_ways")
    source = models.ForeignKey(Asset, on_delete=models.PROTECT, related_name="+")
    controller = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    enters_at = models.ForeignKey(
        PathPart, null=True, blank=True, on_delete=models.SET_NULL
    )
    through = models.CharField(max_length=10, choices=THROUGH, blank=True)
    switch_a = quantity()
    is_on = models.BooleanField(default=True)
    shares_with = text(60)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.source} into {self.kit}"

    @property
    def key(self) -> str:
        """Its key in the core."""
        return f"c{self.pk}"


class KitItem(models.Model):
    """One thing in a kit: an asset (a kit in a kit too), or something without tag."""

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="items")
    asset = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.PROTECT, related_name="in_kits"
    )
    name = text(80)
    count = models.PositiveSmallIntegerField(default=1)
    is_must = models.BooleanField(default=True)
    container = text(40)
    place = text(60)
    mass_kg = quantity()
    volume_l = quantity()
    ordinal = models.PositiveSmallIntegerField(default=0)

    class Meta:
        ordering = ["container", "ordinal", "pk"]
        constraints = [
            models.CheckConstraint(
                name="shelf_item_is_something",
                condition=Q(asset__isnull=False) | ~Q(name=""),
            ),
            models.UniqueConstraint(
                fields=["kit", "asset"], name="shelf_item_once_in_a_kit"
            ),
        ]

    def __str__(self) -> str:
        if self.asset is None:
            return self.name
        return f"{self.asset.tag} {self.name or self.asset.name}".strip()


class KitVersion(models.Model):
    """A kit's contents and path as they were when somebody said: this is a version."""

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveSmallIntegerField()
    made_at = models.DateTimeField()
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    why = text(200)
    #: Lines as they were, for reading only; nothing is computed from them.
    contents = models.JSONField(default=list)

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(fields=["kit", "number"], name="shelf_version_once")
        ]

    def __str__(self) -> str:
        return f"{self.kit} version {self.number}"


class BuildNote(models.Model):
    """A line of a kit's build record; a temporary part has a date it is due."""

    WHAT = [
        ("diagram", "diagram"),
        ("change", "change"),
        ("fastener", "fastener"),
        ("temporary", "temporary part"),
        ("reason", "reason"),
        ("shakedown", "open item of a trial"),
    ]

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="build_notes")
    what = models.CharField(max_length=10, choices=WHAT, default="change")
    made_on = models.DateField()
    words = models.CharField(max_length=300)
    why = text(300)
    due_on = models.DateField(null=True, blank=True)
    done_on = models.DateField(null=True, blank=True)

    class Meta:
        ordering = ["-made_on", "-pk"]
        constraints = [
            models.CheckConstraint(
                name="shelf_temporary_has_a_date",
                condition=~Q(what="temporary") | Q(due_on__isnull=False),
            )
        ]

    def __str__(self) -> str:
        return self.words


class KitTrial(models.Model):
    """A trial of a kit: what was tried, and whether it passed."""

    WHAT = [
        ("transfer", "transfer: mains away and back under load"),
        ("run", "run from full to its reserve"),
        ("set_up", "set up and taken down"),
        ("on_air", "on the air from its own power"),
        ("other", "other trial"),
    ]

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="trials")
    what = models.CharField(max_length=8, choices=WHAT)
    made_on = models.DateField()
    has_passed = models.BooleanField()
    words = models.CharField(max_length=300)

    class Meta:
        ordering = ["-made_on", "-pk"]

    def __str__(self) -> str:
        return f"{self.get_what_display()}: {'passed' if self.has_passed else 'failed'}"


class NoiseRecord(models.Model):
    """Radio noise of one installation: this source, heard there, in this box."""

    LEVELS = [
        ("none", "not heard"),
        ("weak", "weak"),
        ("bothers", "bothers"),
        ("blocks", "blocks the band"),
    ]
    STATES = [("open", "open"), ("cured", "cured"), ("lived with", "lived with")]

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="noises")
    source = models.CharField(max_length=60)
    heard_on = models.CharField(max_length=60)
    band = text(30)
    installation = models.CharField(max_length=200)
    level = models.CharField(max_length=8, choices=LEVELS, default="bothers")
    state = models.CharField(max_length=10, choices=STATES, default="open")
    cure = text(200)
    noted_on = models.DateField()

    class Meta:
        ordering = ["-noted_on", "-pk"]

    def __str__(self) -> str:
        return f"{self.source} on {self.heard_on}"


class Spare(models.Model):
    """A spare part of a kit: how many are there, how many should be, and wear."""

    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="spares")
    name = models.CharField(max_length=80)
    have = models.PositiveSmallIntegerField(default=0)
    want = models.PositiveSmallIntegerField(default=1)
    wear = text(200)
    is_obsolete = models.BooleanField(default=False)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def is_short(self) -> bool:
        """Whether there are fewer than there should be."""
        return self.have < self.want


class Acceptance(models.Model):
    """A finding that the coordinator accepts, with a reason, until a date."""

    asset = models.ForeignKey(
        Asset, on_delete=models.CASCADE, related_name="acceptances"
    )
    key = models.CharField(max_length=80)
    reason = models.CharField(max_length=300)
    #: What it said when it was accepted.
    words = models.CharField(max_length=600, blank=True)
    until = models.DateField()
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    made_at = models.DateTimeField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["asset", "key"], name="shelf_acceptance_once"
            )
        ]

    def __str__(self) -> str:
        return self.key


class Packing(models.Model):
    """One time that a kit is packed; a new one begins with nothing ticked."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    kit = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="packings")
    began_at = models.DateTimeField(default=real_now)
    began_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    switches_off = models.BooleanField(default=False)
    load_off = models.BooleanField(default=False)
    terminals_covered = models.BooleanField(default=False)
    closed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-began_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["kit"],
                condition=Q(closed_at=None),
                name="shelf_one_open_packing",
            )
        ]

    def __str__(self) -> str:
        return f"packing of {self.kit}"


class PackTick(models.Model):
    """One item ticked as packed."""

    packing = models.ForeignKey(Packing, on_delete=models.CASCADE, related_name="ticks")
    item = models.ForeignKey(KitItem, on_delete=models.CASCADE)
    at = models.DateTimeField(default=real_now)
    by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["packing", "item"], name="shelf_tick_once")
        ]

    def __str__(self) -> str:
        return str(self.item)
