"""Ranges of quantities as the database holds them."""

from __future__ import annotations

from collections.abc import Mapping

from django.db.models import CheckConstraint, Q

from powercore.limits import Limit


def possible(name: str, limits: Mapping[str, Limit]) -> CheckConstraint:
    """A constraint: each of these columns is empty or in its range."""
    condition = Q()
    for column, limit in limits.items():
        span = (limit.low, limit.high)
        condition &= Q(**{column: None}) | Q(**{f"{column}__range": span})
    return CheckConstraint(name=name, condition=condition)
