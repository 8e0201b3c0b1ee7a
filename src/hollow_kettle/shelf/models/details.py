"""What each kind of thing's arithmetic needs: one table for each kind."""

from __future__ import annotations

from datetime import time
from typing import Any

from django.db import models

from hollow_kettle.ranges import possible
from powercore.physics.wiring import BOX, BUNDLES, CONNECTORS, INSULATIONS, ORDINARY

from . import limits
from .asset import CHEMISTRY_CHOICES, Asset
from .limits import Limits

CONNECTOR_CHOICES = [(key, one.name) for key, one in CONNECTORS.items()]
GENDER_CHOICES = [("", "none"), ("plug", "plug"), ("socket", "socket")]


def insulation() -> models.CharField:
    """How a wire is insulated."""
    return models.CharField(
        max_length=8, choices=list(INSULATIONS.items()), default=ORDINARY
    )


def bundle() -> models.CharField:
    """How a wire lies among others."""
    return models.CharField(max_length=6, choices=list(BUNDLES.items()), default=BOX)


def quantity(default: float | None = None, **options: Any) -> models.FloatField:
    """A quantity; one without a default may be unknown."""
    if default is None:
        return models.FloatField(null=True, blank=True, **options)
    return models.FloatField(default=default, **options)


def text(most: int = 120) -> models.CharField:
    """A short text that may be empty."""
    return models.CharField(max_length=most, blank=True)


class Detail(models.Model):
    """One row of details for one asset."""

    LIMITS: Limits = {}

    asset = models.OneToOneField(Asset, primary_key=True, on_delete=models.CASCADE)

    class Meta:
        abstract = True

    def __str__(self) -> str:
        return str(self.asset)


class Battery(Detail):
    """What a battery's arithmetic needs."""

    LIMITS = limits.BATTERY
    PROTECTION = [
        ("", "not noted"),
        ("common", "one port both ways"),
        ("separate", "a port of its own for charging"),
        ("none", "none"),
    ]

    BALANCING = [
        ("", "not noted"),
        ("top", "at the top of the charge"),
        ("always", "all the time"),
        ("none", "none: by hand"),
    ]

    chemistry = models.CharField(max_length=16, choices=CHEMISTRY_CHOICES)
    series = models.PositiveSmallIntegerField("cells in series")
    parallel = models.PositiveSmallIntegerField("cells in parallel", default=1)
    nameplate_ah = models.FloatField("nameplate capacity")
    printed_wh = quantity()
    reserve_pct = quantity()
    resistance_mohm = quantity()
    #: Found in two tests; None: its chemistry's.
    peukert = quantity()
    max_charge_a = quantity()
    max_discharge_a = quantity()
    max_charge_v = quantity()
    charge_v = quantity()
    float_v = quantity()
    disconnect_v = quantity()
    protection = models.CharField(max_length=8, choices=PROTECTION, blank=True)
    #: Where its board cuts off, how it balances, and how cold it may be charged.
    board_low_v = quantity()
    board_high_v = quantity()
    balancing = models.CharField(max_length=8, choices=BALANCING, blank=True)
    charge_low_c = quantity()
    is_heated = models.BooleanField(default=False)
    was_deep_discharged = models.BooleanField(default=False)
    was_left_on = models.BooleanField(default=False)

    class Meta:
        constraints = [possible("shelf_battery_possible", limits.BATTERY)]


class Bank(Detail):
    """A USB power bank."""

    LIMITS = limits.BANK

    cell_mah = models.FloatField()
    cell_v = quantity(3.7)
    efficiency_pct = quantity(85)
    levels = text()
    auto_off_ma = quantity(80)
    claimed_ah = quantity()
    claimed_v = quantity(5)

    class Meta:
        constraints = [possible("shelf_bank_possible", limits.BANK)]


class Panel(Detail):
    """A solar panel, as printed."""

    LIMITS = limits.PANEL

    voc_v = models.FloatField()
    isc_a = models.FloatField()
    vmp_v = models.FloatField()
    imp_a = models.FloatField()
    measured_a = quantity()
    voc_pct_per_c = quantity(-0.3)
    power_pct_per_c = quantity(-0.4)
    in_series = models.PositiveSmallIntegerField(default=1)
    width_m = quantity()
    height_m = quantity()

    class Meta:
        constraints = [possible("shelf_panel_possible", limits.PANEL)]


class Controller(Detail):
    """A solar charge controller."""

    LIMITS = limits.CONTROLLER
    METHODS = [("pwm", "PWM"), ("mppt", "tracking (MPPT)")]

    method = models.CharField(max_length=8, choices=METHODS, default="pwm")
    max_a = models.FloatField()
    max_v = models.FloatField()
    setting = models.CharField(max_length=16, blank=True, choices=CHEMISTRY_CHOICES)
    settings = text()
    absorb_v = quantity()
    float_v = quantity()
    is_compensated = models.BooleanField(default=False)

    class Meta:
        constraints = [possible("shelf_controller_possible", limits.CONTROLLER)]


class Charger(Detail):
    """A charger or a DC supply."""

    LIMITS = limits.CHARGER
    ROLES = [("charger", "charger, ends by itself"), ("supply", "DC supply")]

    role = models.CharField(max_length=8, choices=ROLES, default="charger")
    max_a = models.FloatField()
    absorb_v = quantity()
    float_v = quantity()
    low_v = quantity()
    high_v = quantity()
    setting = models.CharField(max_length=16, blank=True, choices=CHEMISTRY_CHOICES)
    settings = text()
    how_set = text(80)
    series = text(40)
    balances = models.BooleanField(default=False)
    wakes_tripped = models.BooleanField(default=False)
    is_compensated = models.BooleanField(default=False)
    resumes = models.BooleanField(default=True)
    is_isolated = models.BooleanField(default=False)
    efficiency_pct = quantity(85)
    power_factor = quantity(0.65)

    class Meta:
        constraints = [possible("shelf_charger_possible", limits.CHARGER)]


class Generator(Detail):
    """A generator."""

    LIMITS = limits.GENERATOR
    FUELS = [("petrol", "petrol"), ("gas", "gas"), ("diesel", "diesel")]

    rated_w = models.FloatField()
    rated_va = quantity()
    fuel = models.CharField(max_length=8, choices=FUELS, default="petrol")
    quarter_l_h = quantity(0.35)
    full_l_h = quantity(0.9)
    tank_l = quantity(2)
    other_w = quantity(0)
    quiet_from = models.TimeField(null=True, blank=True, default=time(22))
    quiet_to = models.TimeField(null=True, blank=True, default=time(6))

    class Meta:
        constraints = [possible("shelf_generator_possible", limits.GENERATOR)]


class Converter(Detail):
    """A converter: step down, step up, inverter or USB-C."""

    LIMITS = limits.CONVERTER
    METHODS = [
        ("buck", "step down"),
        ("boost", "step up, or both"),
        ("inverter", "inverter"),
        ("usb_pd", "USB-C power delivery"),
    ]

    method = models.CharField(max_length=8, choices=METHODS, default="buck")
    in_min_v = quantity(10)
    in_max_v = quantity(30)
    out_v = models.FloatField()
    max_w = models.FloatField()
    efficiency_low_pct = quantity(85)
    efficiency_full_pct = quantity(90)
    idle_w = quantity(0.3)
    min_load_w = quantity(0)
    headroom_v = quantity(0.5)
    levels = text()
    ports = models.PositiveSmallIntegerField(default=1)
    shared_w = quantity()

    class Meta:
        constraints = [possible("shelf_converter_possible", limits.CONVERTER)]


class Device(Detail):
    """A radio or another load, with where its currents come from."""

    LIMITS = limits.DEVICE
    ORIGINS = [("measured", "measured"), ("label", "its label"), ("guessed", "guessed")]

    min_v = quantity(11)
    max_v = quantity(15.8)
    nominal_v = quantity(13.8)
    standby_a = quantity(0)
    receive_a = models.FloatField()
    transmit_idle_a = quantity()
    key_down_a = quantity()
    low_key_down_a = quantity()
    origin = models.CharField(max_length=10, choices=ORIGINS, default="guessed")
    maker_fuse_a = quantity()
    tx_w = quantity()
    low_tx_w = quantity()
    rises_with_volts = models.BooleanField(default=False)
    pd_v = quantity()
    pd_w = quantity()
    duty_pct = quantity(40)
    transmit_pct = quantity(30)

    class Meta:
        constraints = [possible("shelf_device_possible", limits.DEVICE)]


class Meter(Detail):
    """A current meter and what it gets wrong."""

    LIMITS = limits.METER

    zero_a = quantity(0)
    gain = quantity(1)
    checked_on = models.DateField(null=True, blank=True)

    class Meta:
        constraints = [possible("shelf_meter_possible", limits.METER)]


class Lead(Detail):
    """A lead or adapter: two ends, a length, a wire, perhaps a fuse."""

    LIMITS = limits.LEAD

    a_connector = models.CharField(max_length=20, choices=CONNECTOR_CHOICES)
    a_gender = models.CharField(max_length=6, choices=GENDER_CHOICES, blank=True)
    a_reversed = models.BooleanField(default=False)
    b_connector = models.CharField(max_length=20, choices=CONNECTOR_CHOICES)
    b_gender = models.CharField(max_length=6, choices=GENDER_CHOICES, blank=True)
    b_reversed = models.BooleanField(default=False)
    length_m = quantity(0.5)
    awg = models.PositiveSmallIntegerField(null=True, blank=True)
    area_mm2 = quantity()
    insulation = insulation()
    bundle = bundle()
    fuse_a = quantity()

    class Meta:
        constraints = [possible("shelf_lead_possible", limits.LEAD)]


class Guard(Detail):
    """A fuse, breaker, switch or distribution block."""

    LIMITS = limits.GUARD
    ROLES = [
        ("fuse", "fuse"),
        ("breaker", "breaker"),
        ("switch", "switch"),
        ("block", "distribution block"),
    ]

    role = models.CharField(max_length=8, choices=ROLES, default="fuse")
    amps = models.FloatField()

    class Meta:
        constraints = [possible("shelf_guard_possible", limits.GUARD)]


class AntennaPart(Detail):
    """Something on the antenna side; only its power rating."""

    LIMITS = limits.ANTENNA

    max_w = models.FloatField()

    class Meta:
        constraints = [possible("shelf_antenna_possible", limits.ANTENNA)]


class Port(models.Model):
    """A port of an asset: what mates with it, which way power goes."""

    LIMITS = limits.PORT
    FLOWS = [("out", "gives power"), ("in", "takes power"), ("both", "both")]

    asset = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="ports")
    name = models.CharField(max_length=40)
    connector = models.CharField(max_length=20, choices=CONNECTOR_CHOICES)
    gender = models.CharField(max_length=6, choices=GENDER_CHOICES, blank=True)
    is_reversed = models.BooleanField(default=False)
    flow = models.CharField(max_length=4, choices=FLOWS, default="out")
    low_v = quantity(0)
    high_v = quantity(0)
    max_a = quantity()
    is_live = models.BooleanField(default=False)

    class Meta:
        ordering = ["asset", "name"]
        constraints = [
            possible("shelf_port_possible", limits.PORT),
            models.UniqueConstraint(fields=["asset", "name"], name="shelf_port_once"),
        ]

    def __str__(self) -> str:
        return f"{self.asset}, {self.name}"
