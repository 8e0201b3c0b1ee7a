"""Bench tests: work them out, keep them, accept what they found."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.people.club import club_now
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.assets.services import record_capacity, value_or_default
from hollow_kettle.shelf.bridge import gear_of, meter_of, pack_of
from hollow_kettle.shelf.models import Asset, BenchRow, BenchTest, Estimate
from powercore.errors import PowercoreError
from powercore.gear import capacity
from powercore.gear.capacity import Bound, Given, Result, Row
from powercore.gear.things import Meter
from powercore.physics.chemistry import chemistry_of

What = BenchTest.What


@transaction.atomic
def record_test(
    asset: Asset, *, by: Actor, rows: Sequence[Row] = (), **values: Any
) -> BenchTest:
    """
    Keep a test and what it comes to; nothing is trusted until it is accepted.

    Raises
    ------
    ValidationError
        If the test says nothing, or a number it needs is missing.
    """
    made_at: datetime = values.pop("made_at", None) or club_now()
    test = BenchTest(asset=asset, made_at=made_at, made_by=by)
    for name, value in values.items():
        setattr(test, name, value_or_default(test, name, value))
    try:
        work_out(test, rows)
    except PowercoreError as error:
        raise ValidationError(str(error), code="says_nothing") from error
    test.save()
    BenchRow.objects.bulk_create(
        BenchRow(test=test, minute=row.minute, amps=row.amps, volts=row.volts)
        for row in rows
    )
    return test


def work_out(test: BenchTest, rows: Sequence[Row]) -> None:
    """Fill in what a test comes to."""
    meter = meter_of(test.meter, test.made_at.date()) if test.meter else None
    if test.what == What.BANK:
        _bank(test)
    elif test.what == What.FINISHING:
        _finishing(test)
    elif test.what == What.SAG:
        _sag(test, meter)
    else:
        _keep(test, _capacity(test, rows, meter))


def _needed(test: BenchTest, **names: str) -> None:
    for name, label in names.items():
        if getattr(test, name) is None:
            raise ValidationError({name: f"{label} is needed for this test."})


def _capacity(test: BenchTest, rows: Sequence[Row], meter: Meter | None) -> Result:
    pack = pack_of(test.asset.battery, None)
    given = _given(test, rows, meter)
    if test.what == What.RECHARGE:
        return capacity.capacity_by_recharge(
            pack, given, was_empty=test.was_emptied, was_filled=test.was_full
        )
    end_v = given.end_v if given.end_v is not None else test.end_v
    emptied = test.was_emptied or (end_v is not None and end_v <= pack.cut_off_v)
    return capacity.capacity_of(
        pack,
        given,
        meter=meter,
        temp_c=25.0 if test.temp_c is None else test.temp_c,
        was_full=test.was_full,
        was_emptied=emptied,
    )


def _given(test: BenchTest, rows: Sequence[Row], meter: Meter | None) -> Given:
    if rows:
        given = capacity.given_by_rows(rows, meter)
        test.hours = given.hours
        return given
    if test.what in (What.TIMED, What.RUN_DOWN) and test.shown_ah is None:
        _needed(test, hours="Duration", amps="Mean current")
        return capacity.given_by_counter(
            (test.amps or 0) * (test.hours or 0), test.hours or 0, meter, test.end_v
        )
    _needed(test, shown_ah="What the meter counted", hours="Duration")
    return capacity.given_by_counter(
        test.shown_ah or 0, test.hours or 0, meter, test.end_v
    )


def _keep(test: BenchTest, result: Result) -> None:
    test.result = round(result.ah, 2)
    test.result_sd = round(result.sd_ah, 2)
    test.is_bound = result.bound is Bound.AT_LEAST
    test.words = "; ".join(result.steps)[:500]


def _sag(test: BenchTest, meter: Meter | None) -> None:
    _needed(test, amps="Current", start_v="Rested volts", end_v="Volts under load")
    amps = meter.true_a(test.amps or 0) if meter else test.amps or 0
    sag_v = (test.start_v or 0) - (test.end_v or 0)
    if sag_v <= 0:
        raise ValidationError({"end_v": "Under load the volts must be lower."})
    ohm = capacity.resistance_from_sag([amps], [sag_v])
    test.result = round(ohm * 1000, 1)
    # Two readings of a meter that shows 10 mV; common practice, no source.
    test.result_sd = round(0.014 / abs(amps) * 1000, 1)
    test.words = f"{sag_v:.2f} V less at {amps:.1f} A"


def _bank(test: BenchTest) -> None:
    _needed(test, hours="Run time", amps="Current", end_v="Volts at its output")
    bank = gear_of(test.asset)
    wh, share = capacity.bank_capacity(
        bank, test.end_v or 0, test.amps or 0, test.hours or 0
    )
    test.result = round(wh, 1)
    test.words = (
        f"{wh:.1f} Wh came out, {share:.0%} of the {bank.cell_wh:.0f} Wh in its cells"
    )


def _finishing(test: BenchTest) -> None:
    _needed(test, end_v="Volts at the end", end_a="Current at the end")
    wrong = capacity.finishing(
        pack_of(test.asset.battery, None),
        test.end_v or 0,
        test.end_a or 0,
        is_off=test.is_off,
    )
    charger = f"{test.charger.tag} " if test.charger else "the charger "
    test.words = charger + (", ".join(wrong) if wrong else "ended as it should")


@transaction.atomic
def accept_test(test: BenchTest, *, by: Actor) -> Estimate:
    """
    Trust what a test found: the battery's capacity or its resistance.

    Raises
    ------
    ValidationError
        If the test proposes nothing, or was accepted before.
    """
    if not test.can_be_accepted or test.result is None:
        raise ValidationError("This test gives no value to trust.")
    if test.estimate_id is not None:
        raise ValidationError("It is accepted already.")
    origin = test.get_what_display() + (", at least" if test.is_bound else "")
    if test.what == What.SAG:
        battery = test.asset.battery
        battery.resistance_mohm = test.result
        battery.save(update_fields=["resistance_mohm"])
        estimate = Estimate.objects.create(
            subject=test.asset_id,
            quantity=Estimate.RESISTANCE,
            mean=test.result,
            sd=test.result_sd or 0,
            origin=origin,
            evidence=test.words[:300],
            accepted_by=by,
            made_at=test.made_at,
        )
    else:
        estimate = record_capacity(
            test.asset,
            tested_ah=test.result,
            sd=test.result_sd or 0,
            origin=origin,
            evidence=test.words,
            by=by,
            at=test.made_at,
        )
    test.estimate = estimate
    test.save(update_fields=["estimate"])
    _find_exponent(test)
    return estimate


#: Tests that found all of a capacity, by what flowed.
_DISCHARGES = (What.COUNTER, What.TIMED, What.RUN_DOWN)


def _find_exponent(test: BenchTest) -> None:
    """Find Peukert's exponent of lead-acid from this test and one at another rate."""
    battery = test.asset.battery
    if not chemistry_of(battery.chemistry).is_lead:
        return
    accepted = test.asset.tests.exclude(estimate=None).filter(
        what__in=_DISCHARGES, is_bound=False
    )
    for other in accepted.exclude(pk=test.pk).order_by("-made_at"):
        found = capacity.exponent_of(_flowed(test), _flowed(other))
        if found is not None:
            battery.peukert = round(found, 3)
            battery.save(update_fields=["peukert"])
            return


def _flowed(test: BenchTest) -> tuple[float, float]:
    """Amp-hours and hours of a test, as it was read."""
    hours = test.hours or 0.0
    ah = test.shown_ah if test.shown_ah is not None else (test.amps or 0) * hours
    return ah, hours
