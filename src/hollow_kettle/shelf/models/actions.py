"""Corrective actions: what is to be otherwise next time, by whom, until when."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor

from .asset import Asset


class Action(models.Model):
    """One thing to do so that it does not happen again."""

    class State(models.TextChoices):
        OPEN = "open", "open"
        DONE = "done", "done"
        DROPPED = "dropped", "dropped"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    words = models.CharField(max_length=200)
    #: What it is about, where that is one thing: an asset, a station by its name.
    asset = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.SET_NULL, related_name="actions"
    )
    station = models.CharField(max_length=80, blank=True)
    #: The event whose debrief it comes from, by its key and name.
    event_key = models.UUIDField(null=True, blank=True, db_index=True)
    event_name = models.CharField(max_length=80, blank=True)
    #: What it rests on.
    evidence = models.CharField(max_length=300, blank=True)
    owner = models.ForeignKey(
        Actor, null=True, on_delete=models.SET_NULL, related_name="actions"
    )
    due_on = models.DateField()
    state = models.CharField(max_length=8, choices=State, default=State.OPEN)
    #: What was done, or why not.
    outcome = models.CharField(max_length=300, blank=True)
    ended_at = models.DateTimeField(null=True, blank=True)
    made_by = models.ForeignKey(
        Actor, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    made_at = models.DateTimeField(default=real_now)

    class Meta:
        ordering = ["due_on", "made_at"]
        constraints = [
            models.CheckConstraint(
                name="shelf_action_ends_with_its_state",
                condition=Q(state="open", ended_at=None)
                | (~Q(state="open") & Q(ended_at__isnull=False)),
            )
        ]

    def __str__(self) -> str:
        return self.words

    def get_absolute_url(self) -> str:
        """Where it is changed."""
        return reverse("shelf:action_edit", args=[self.pk])

    @property
    def is_open(self) -> bool:
        """Whether it is still to be done."""
        return self.state == self.State.OPEN
