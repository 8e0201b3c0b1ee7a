"""Panels, and the controllers between them and a battery."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.checks.charging import CAUSE, HEADROOM_V, pairs_of
from powercore.gear.powerpath import Kit
from powercore.gear.things import MPPT, Panel
from powercore.sun.arrays import PWM_SHARE, straight_w


@rule(
    "panel-no-controller",
    STOP,
    CAUSE,
    "panel straight onto a battery",
    why="Nothing ends the charge; and when the pack's protection opens, all that hangs "
    "on it sees the panel's open-circuit voltage.",
    remedy="Put a charge controller set for the battery between them.",
)
def panel_no_controller(kit: Kit) -> Iterator[Hit]:
    """A panel without controller, with the volts the loads may see."""
    for charge in kit.charges:
        if isinstance(charge.source, Panel) and charge.controller is None:
            voc_v = charge.source.cold_voc_v(kit.conditions.low_c)
            exposed = [
                part.called
                for part in kit.devices
                if part.device.stands_v < voc_v and not kit.converter_before(part.key)
            ]
            then = (
                f" Then {', '.join(exposed)} would get {voc_v:.1f} V."
                if exposed
                else f" Then the loads would get {voc_v:.1f} V."
            )
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} charges with no controller.{then}",
            )


@rule(
    "controller-voc",
    STOP,
    CAUSE,
    "panel volts above the controller's limit in the cold",
    why="Open-circuit voltage rises as panels get colder; above its limit a controller "
    "is destroyed in the first cold morning.",
    remedy="Fewer panels in series, or a controller for more volts.",
)
def controller_voc(kit: Kit) -> Iterator[Hit]:
    """A stop above the limit, a caution with less than 5 % to it."""
    for charge in kit.charges:
        if not isinstance(charge.source, Panel) or charge.controller is None:
            continue
        voc_v = charge.source.cold_voc_v(kit.conditions.low_c)
        limit_v = charge.controller.max_v
        if voc_v > limit_v * 0.95:
            over = voc_v > limit_v
            yield Hit(
                where=charge.key,
                words=f"At {kit.conditions.low_c:g} °C {charge.source.tag} gives "
                f"{voc_v:.1f} V open; {charge.controller.tag} can take {limit_v:g} V"
                f"{'.' if over else ', with less than 5 % between.'}",
                severity=STOP if over else CAUTION,
            )


@rule(
    "controller-amps",
    CAUTION,
    CAUSE,
    "panel current above the controller's rating",
    why="Bright clouds and cold give more than the print; a PWM controller passes it "
    "all.",
    remedy="A larger controller, or fewer panels in parallel.",
    source="1.25 × short-circuit current: NEC 690.8, from memory",
)
def controller_amps(kit: Kit) -> Iterator[Hit]:
    """1.25 times the short-circuit current of the panel."""
    for charge in kit.charges:
        if not isinstance(charge.source, Panel) or charge.controller is None:
            continue
        if charge.controller.method == MPPT:
            continue
        design_a = 1.25 * charge.source.isc_a
        if design_a > charge.controller.max_a:
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} can give {design_a:.1f} A; "
                f"{charge.controller.tag} is for {charge.controller.max_a:g} A.",
            )


@rule(
    "panel-too-low",
    CAUTION,
    CAUSE,
    "panel volts too low to fill the battery",
    why="A panel that is warm gives less than its print; without headroom the last "
    "part of the charge never comes.",
    remedy="A panel or string of more volts, or a boosting controller.",
)
def panel_too_low(kit: Kit) -> Iterator[Hit]:
    """Maximum-power volts of a hot panel against the charging voltage."""
    for charge, battery in pairs_of(kit):
        panel = charge.source
        if not isinstance(panel, Panel) or not battery.pack.chem.is_rechargeable:
            continue
        # A panel in the sun is about 25 °C warmer than the air, so this many
        # degrees above the 25 °C of its print.
        above_c = max(0.0, kit.conditions.high_c)
        hot_v = panel.vmp_v * panel.in_series * (1 + panel.voc_per_c * above_c)
        open_v = panel.voc_v * panel.in_series * (1 + panel.voc_per_c * above_c)
        flows = open_v > battery.pack.rested_v(0.2)
        if hot_v < battery.pack.absorb_v + HEADROOM_V:
            yield Hit(
                where=charge.key,
                words=f"Hot, {panel.tag} gives its power at about {hot_v:.1f} V; "
                f"{battery.tag} is filled at {battery.pack.absorb_v:.1f} V."
                f"{'' if flows else ' Nothing flows.'}",
                severity=CAUTION if flows else STOP,
            )


@rule(
    "panel-weak",
    NOTE,
    CAUSE,
    "a panel gives much less than its print",
    why="Cracked cells, a broken joint or an optimistic print: plans count on amps "
    "that never come.",
    remedy="Measure again near noon under a clear sky; count on what was measured.",
)
def panel_weak(kit: Kit) -> Iterator[Hit]:
    """Measured short-circuit current against the printed one, a fifth less."""
    for charge in kit.charges:
        panel = charge.source
        if not isinstance(panel, Panel) or panel.measured_a is None:
            continue
        if panel.measured_a < 0.8 * panel.isc_a:
            yield Hit(
                where=charge.key,
                words=f"{panel.tag} is printed {panel.isc_a:.1f} A; it gave "
                f"{panel.measured_a:.1f} A in full sun.",
            )


@rule(
    "pwm-loss",
    NOTE,
    CAUSE,
    "a PWM controller wastes panel volts",
    why="PWM gives panel amps at battery volts: the rest of the panel's voltage is "
    "not turned into charge.",
    remedy="A tracking (MPPT) controller, or count on the lower figure.",
)
def pwm_loss(kit: Kit) -> Iterator[Hit]:
    """Watts given against watts printed, where a fifth is lost."""
    for charge in kit.charges:
        panel, controller = charge.source, charge.controller
        if not isinstance(panel, Panel) or controller is None or not kit.members:
            continue
        volts = kit.set_v(0.6)
        given_w = float(straight_w(PWM_SHARE * panel.isc_a, volts, panel.watts))
        if controller.method != MPPT and given_w < 0.8 * panel.watts:
            yield Hit(
                where=charge.key,
                words=f"{panel.tag} is printed {panel.watts:.0f} W; through "
                f"{controller.tag} it gives about {given_w:.0f} W at {volts:.1f} V.",
            )
