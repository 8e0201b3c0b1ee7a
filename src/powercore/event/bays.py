"""A bay with a charger of the shelf: what it gives, and to which batteries."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from powercore.event.plans import BayPlan
from powercore.gear.fits import Fit, Verdict, fit_of
from powercore.gear.things import CHARGER, Battery, Charger


def fit_of_all(charger: Charger, batteries: Sequence[Battery]) -> Fit:
    """How a charger fits batteries that are charged as one: as the worst of them."""
    fits = [fit_of(charger, replace(one, hold="")) for one in batteries]
    order = (Verdict.NEVER, Verdict.WITH_SETTING, Verdict.FITS)
    return min(fits, key=lambda fit: order.index(fit.verdict))


def on_charger(
    bay: BayPlan,
    charger: Charger,
    units: Mapping[str, Sequence[Battery]],
    *,
    refusal: str = "",
) -> BayPlan:
    """
    Let a charger say what a bay gives and which batteries it charges.

    Parameters
    ----------
    bay : BayPlan
        Its watts and chemistries are put aside.
    charger : Charger
    units : mapping of str to sequence of Battery
        What the event moves, by key: one battery, or those of a joined set.
    refusal : str
        Why the charger charges nothing at all, as "on hold: smells"; empty: it works.

    Returns
    -------
    BayPlan
        With the charger's current [A], the most power that it gives one of them [W],
        and the batteries that it must not charge, each with the reason.
    """
    refused = {}
    for key, batteries in units.items():
        fit = fit_of_all(charger, batteries)
        if refusal or fit.verdict == Verdict.NEVER:
            refused[key] = refusal or fit.why
    packs = [
        b.pack for key, every in units.items() if key not in refused for b in every
    ]
    volts = [pack.chem.charge_v * pack.series for pack in packs]
    return replace(
        bay,
        charger=charger.tag,
        max_a=charger.max_a,
        efficiency=charger.efficiency,
        max_w=max(1.0, charger.max_a * max(volts, default=0.0)),
        chemistries=tuple(sorted({pack.chemistry for pack in packs})),
        refuses=tuple(sorted(refused.items())),
        ends_itself=charger.role == CHARGER,
    )
