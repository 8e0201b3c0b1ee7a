"""What people note in the field, parsed and checked once."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

from django import forms
from django.db.models import Q, QuerySet

from hollow_kettle.clock import local, told
from hollow_kettle.log.models import BatteryNow, Place, PlaceKind, StationSpan
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Bay, Event, Source, Station
from hollow_kettle.shelf.assets.services import look_alike, plain_tag
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.models import Asset, Battery
from hollow_kettle.ui.forms import Dressed, NumberField, check_year
from powercore.belief.readings import net_ah, odd_volts
from powercore.event.joining import TIE
from powercore.limits import COUNTED_AH, GAUGE_PCT, READ_A, READ_AH, READ_V, Limit
from powercore.physics.battery import Pack
from powercore.sun.sources import NOT_OWN

from .services import is_far_outside
from .times import typed_moment

#: A time without a date that long ago may be a slip. Common practice, no source.
LONG_AGO = timedelta(hours=12)
#: Where a battery is used, charges or waits to be used.
_IN_USE = (PlaceKind.STATION, PlaceKind.BAY)
#: A time so far ahead of now is asked about. [min] Common practice, no source.
AHEAD_MIN = 2.0
#: A reading so far outside what is believed is asked about; and a count of so many
#: times what is printed on a battery. Common practice, no source.
FAR, TOO_MUCH = 0.25, 1.5


class TagField(forms.CharField):
    """A battery's tag as it is said; k7 and K07 are the same, unknown ones are kept.

    A joined set is all its tags with a plus sign, or any one of them.
    """

    def __init__(self, **kwargs: Any) -> None:
        super().__init__(max_length=40, **kwargs)
        self.widget.attrs.update(
            {
                "autocomplete": "off",
                "autocapitalize": "characters",
                "spellcheck": "false",
                "list": "battery-tags",
            }
        )


class EntryForm(Dressed, forms.Form):
    """What every entry has: when it happened, and a key made once."""

    uid = forms.UUIDField(widget=forms.HiddenInput)
    taken = forms.CharField(
        label="When",
        required=False,
        max_length=24,
        help_text="Like 23:24 or 2026-06-27 23:24; empty means now.",
        widget=forms.TextInput(attrs={"placeholder": "now", "autocomplete": "off"}),
    )
    text = forms.CharField(label="Remark", max_length=500, required=False)
    sure = forms.BooleanField(
        label="I'm sure", required=False, widget=forms.HiddenInput
    )

    def order_fields(self, field_order: Any) -> None:
        """Say what is seen first, when it was last."""
        last = ("text", "taken", "sure")
        super().order_fields([*(n for n in self.fields if n not in last), *last])

    def __init__(
        self,
        *args: Any,
        event: Event,
        now: datetime | None = None,
        said: dict[str, Asset | None] | None = None,
        **kwargs: Any,
    ) -> None:
        """`said`: batteries found by what was said, shared by forms of one batch."""
        kwargs["initial"] = {"uid": uuid4(), **(kwargs.get("initial") or {})}
        super().__init__(*args, **kwargs)
        self.event = event
        self.now = now or event.clock.now()
        self._said = {} if said is None else said
        #: Whether something odd is asked about, which "I'm sure" would keep.
        self.has_asked = False
        #: What must not be done, where it can still be left undone.
        self.stops = ""

    def offer_own(self, keys: set[UUID]) -> None:
        """Offer a station lead the own stations only; an empty set offers all."""
        choice = self.fields.get("station")
        if keys and isinstance(choice, forms.ModelChoiceField):
            choice.queryset = self.event.stations.filter(pk__in=keys)
            self.initial.setdefault("station", next(iter(keys)))

    def clean_taken(self) -> datetime:
        """Return when it happened in UTC; an hour alone means its latest one."""
        text = self.cleaned_data["taken"].strip()
        if not text:
            return self.now
        found = typed_moment(text, self.now, self.event.zone)
        if found is None:
            raise forms.ValidationError(
                f"Write the time like 23:24, 0105z or 2026-06-27 23:24, not {text}.",
                code="not_a_time",
            )
        check_year(found.year)
        return found

    def clean(self) -> dict[str, Any]:
        """A time far outside the event is asked about; kept, it waits."""
        data = super().clean() or self.cleaned_data
        self._ask_about_digits()
        taken = data.get("taken")
        typed = self.data.get("taken", "")
        if taken is None:
            return data
        ahead = (taken - self.now).total_seconds() / 60
        if ahead >= AHEAD_MIN and not is_far_outside(self.event, taken):
            self.ask(
                "taken",
                f"{told(taken, self.event.zone)} is {ahead:.0f} min ahead of now, "
                f"{told(self.now, self.event.zone)}. Correct it, or tick “I'm sure”.",
            )
            return data
        is_old = self.now - taken > LONG_AGO and "-" not in typed
        if is_old and taken < self.event.starts_at:
            hours = (self.now - taken).total_seconds() / 3600
            self.ask(
                "taken",
                f"{typed} is {hours:.0f} hours ago, before the event. Write the date "
                "too, or tick “I'm sure”.",
            )
        elif is_far_outside(self.event, taken):
            start, end = (
                local(moment, self.event.zone)
                for moment in (self.event.starts_at, self.event.ends_at)
            )
            self.ask(
                "taken",
                f"The event goes from {start:%Y-%m-%d %H:%M} to {end:%Y-%m-%d %H:%M}. "
                "Tick “I'm sure” to keep this for a coordinator to look at.",
            )
        return data

    def _ask_about_hold(self) -> None:
        """A battery that must not be used, put into use."""
        battery = self.battery("tag")
        if battery is not None and battery.hold:
            self.ask(
                "tag",
                f"{battery.tag} is on hold: {battery.hold}. Take it out of use; tick "
                "“I'm sure” only if it went in all the same.",
            )

    def _ask_about_digits(self) -> None:
        """A tag of digits alone that is another's with zeros is asked about."""
        for name, field in list(self.fields.items()):
            if not isinstance(field, TagField):
                continue
            said = self.cleaned_data.get(name) or ""
            found = self.battery(name) if said.isdigit() else None
            if found is not None and found.tag != said:
                self.ask(name, f"Do you mean battery {found.tag}? There is no {said}.")

    def ask(self, field: str, words: str) -> None:
        """Ask once about something odd; with "I'm sure" it is kept."""
        if not self.cleaned_data.get("sure"):
            self.has_asked = True
            self.fields["sure"].widget = forms.CheckboxInput(
                attrs={"class": "form-check-input"}
            )
            self.add_error(field, words)
            super().order_fields(["sure"])  # where it can't be overlooked

    def battery(self, name: str) -> Asset | None:
        """Return the battery whose tag was said, None when there is none.

        Of a joined set, whichever was said, it is the one that plans go by.
        """
        said = (self.cleaned_data.get(name) or "").partition(TIE)[0].strip()
        if said not in self._said:
            self._said[said] = self._find(said) if said else None
        return self._said[said]

    def _find(self, said: str) -> Asset | None:
        found = look_alike(said)
        if found is None:
            return None
        row = self.event.joined.filter(battery=found).select_related("lead").first()
        return found if row is None else row.lead


class ReadingForm(EntryForm):
    """Volts with amps and how read; amp-hours; a gauge's percentage."""

    tag = TagField(label="Battery")
    volts = NumberField(label="Volts", limit=READ_V, required=False)
    amps = NumberField(
        label="Amps",
        limit=READ_A,
        required=False,
        help_text="Current flowing out while you read the volts.",
    )
    how = forms.ChoiceField(
        label="Read while",
        choices=[
            ("receiving", "receiving"),
            ("key_down", "key down"),
            ("unplugged", "unplugged"),
        ],
    )
    unplugged_min = NumberField(
        label="Unplugged for", limit=Limit(0, 100_000, "min"), required=False
    )
    amp_hours = NumberField(
        label="Amp-hours",
        limit=READ_AH,
        required=False,
        help_text="Counted out since its last swap; minus when more came in.",
    )
    ah_in = NumberField(
        label="Counted in apart",
        limit=COUNTED_AH,
        required=False,
        help_text="Of a counter that shows both; above stands what went out.",
    )
    gauge_pct = NumberField(label="Gauge", limit=GAUGE_PCT, required=False)

    def clean(self) -> dict[str, Any]:
        """Something must have been read; odd but possible readings are asked about."""
        data = super().clean() or self.cleaned_data
        read = ("volts", "amp_hours", "ah_in", "gauge_pct")
        if not set(read) & set(self.errors) and all(data.get(n) is None for n in read):
            self.add_error("volts", "Enter volts, amp-hours or a gauge percentage.")
        if not {"ah_in", "amp_hours"} & set(self.errors):
            # What counts is the difference; both sides stay readable from it.
            data["amp_hours"] = net_ah(data.get("amp_hours"), data.get("ah_in"))
        volts = data.get("volts")
        odd = odd_volts(volts, self._pack()) if volts is not None else None
        if odd is not None:
            self.ask("volts", f"{volts:g} V is odd: {odd}. Tick “I'm sure” to keep it.")
        if not data.get("sure"):
            self._ask_about_belief(data)
        return data

    def _ask_about_belief(self, data: dict[str, Any]) -> None:
        """What can hardly be so by all that is known is asked about once."""
        asset, pack = self.battery("tag"), self._pack()
        count, gauge = data.get("amp_hours"), data.get("gauge_pct")
        printed_ah = pack.nameplate_ah if pack is not None else float("inf")
        if count is not None and abs(count) > TOO_MUCH * printed_ah:
            self.ask(
                "amp_hours",
                f"{abs(count):g} Ah of a battery of {printed_ah:g} Ah? Tick “I'm sure” "
                "to keep it.",
            )
        row = BatteryNow.objects.filter(battery=asset.pk).first() if asset else None
        if row is None or gauge is None or row.as_of is None:
            return
        taken = data.get("taken") or self.now
        if taken < row.as_of - timedelta(hours=1):
            return  # it is about another time than what is believed now
        if not row.soc_low - FAR <= gauge / 100 <= row.soc_high + FAR:
            self.ask(
                "gauge_pct",
                f"{gauge:g} % is far from the {row.soc_low:.0%} to {row.soc_high:.0%} "
                "believed. Tick “I'm sure” to keep it.",
            )

    def _pack(self) -> Pack | None:
        """The battery that was said, as the core has it."""
        asset = self.battery("tag")
        details = Battery.objects.filter(pk=asset.pk).first() if asset else None
        return pack_of(details, None) if details else None


class SwapForm(EntryForm):
    """One entry for what went in and what came out."""

    station = forms.ModelChoiceField(Station.objects.none(), label="Station")
    tag = TagField(label="In")
    tag_out = TagField(label="Out", required=False)
    place_out = forms.ModelChoiceField(
        Place.objects.none(),
        label="Old battery went to",
        required=False,
        empty_label="on the way back",
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]
        self.fields["place_out"].queryset = waiting_places(event)  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """The same battery can't go in and come out."""
        data = super().clean() or self.cleaned_data
        went_in, out = data.get("tag") or "", data.get("tag_out") or ""
        if out and plain_tag(went_in) == plain_tag(out):
            self.add_error("tag_out", f"{out} can't go in and come out in one swap.")
        elif out and self.battery("tag_out") is None:
            self.ask(
                "tag_out",
                f"There is no battery {out}. Tick “I'm sure” to keep the swap for a "
                "coordinator to look at.",
            )
        self._ask_about_hold()
        return data


class MoveForm(EntryForm):
    """A battery put somewhere: in the yard, or at a station as a spare."""

    tag = TagField(label="Battery")
    to = forms.ModelChoiceField(
        Place.objects.none(),
        label="Now at",
        required=False,
    )
    way = forms.BooleanField(label="On the way, nowhere yet", required=False)

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self.fields["to"].queryset = waiting_places(event)  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """A charge that would spoil a claim of own power is asked about."""
        data = super().clean() or self.cleaned_data
        to = data.get("to")
        if to is not None and to.kind in _IN_USE:
            self._ask_about_hold()
        if to is None and not data.get("way") and "to" not in self.errors:
            self.add_error("to", self.fields["to"].error_messages["required"])
        if refusal := self._bay_refusal(to):
            if not data.get("sure"):
                self.stops = refusal
            self.ask(
                "to", f"{refusal} Tick “I'm sure” only if it charges there already."
            )
        if self.event.is_own_power and to is not None:
            source = Source.objects.filter(bays=to.pk, kind__in=NOT_OWN).first()
            if source is not None:
                self.ask(
                    "to",
                    f"{to} charges from {source}, which breaks “own power only”. Tick "
                    "“I'm sure” to keep it.",
                )
        return data

    def _bay_refusal(self, to: Place | None) -> str:
        """Why the battery must not charge where it is put; empty where it may."""
        battery = self.battery("tag")
        if to is None or battery is None:
            return ""
        problem = problem_for(self.event).problem
        bay, key = str(to.pk), str(battery.pk)
        if bay not in problem.bays or key not in problem.batteries:
            return ""
        why = problem.bay_refusal(bay, key)
        return f"{battery.tag} must not charge on {to.name}: {why}." if why else ""

    @property
    def fitting_bays(self) -> list[str]:
        """Bays on which the battery may charge instead."""
        battery = self.battery("tag")
        problem = problem_for(self.event).problem
        if battery is None or str(battery.pk) not in problem.batteries:
            return []
        return [
            bay.name
            for key, bay in problem.bays.items()
            if problem.bay_refusal(key, str(battery.pk)) is None
        ]


class StationForm(EntryForm):
    """A station off the air, back, on low power, shed or restored."""

    WHAT = [
        ("off_air", "off the air"),
        ("back", "back on the air"),
        ("low", "on low power"),
        ("full", "on full power again"),
        ("shed", "some load shed"),
        ("restored", "shed load back on"),
    ]

    station = forms.ModelChoiceField(Station.objects.none(), label="Station")
    what = forms.ChoiceField(label="Is", choices=WHAT)
    text = forms.CharField(label="Why, in a few words", max_length=500, required=False)

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """Back before it went off leaves it off: that is asked about."""
        data = super().clean()
        station, taken = data.get("station"), data.get("taken")
        if data.get("what") != "back" or station is None or taken is None:
            return data
        off = StationSpan.objects.filter(
            station_key=station.pk, what="off_air", ended_at=None, started_at__gt=taken
        ).first()
        if off is not None:
            since, zone = off.started_at, self.event.zone
            self.ask(
                "taken",
                f"{station} is noted off the air since {told(since, zone)}, later than "
                f"{told(taken, zone)}: so it would stay off. Correct the time, or tick "
                "“I'm sure”.",
            )
        return data


class SourceForm(EntryForm):
    """A source or a bay that gives nothing, or gives again."""

    source = forms.ChoiceField(label="Source or bay")
    state = forms.ChoiceField(
        label="Is", choices=[("on", "on"), ("off", "off or faulty")]
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self._known: dict[str, Source | Bay] = {}
        choices: list[Any] = [("", "choose…")]
        for group, rows in (("Sources", event.sources), ("Bays", event.bays)):
            found = {str(one.pk): one for one in rows.all()}
            self._known |= found
            if found:
                choices.append((group, [(key, one.name) for key, one in found.items()]))
        self.fields["source"].choices = choices  # type: ignore[attr-defined]

    def clean_source(self) -> Source | Bay:
        """Return what was chosen."""
        return self._known[self.cleaned_data["source"]]


class NoteForm(EntryForm):
    """A few words."""

    text = forms.CharField(label="Note", max_length=500)


class StrikeForm(Dressed, forms.Form):
    """Why an entry is struck."""

    because = forms.CharField(label="Because", max_length=500)


def waiting_places(event: Event) -> QuerySet[Place]:
    """Bays and rack of the event's yard, and where spares wait at stations."""
    return Place.objects.filter(
        Q(kind__in=(PlaceKind.BAY, PlaceKind.YARD_RACK))
        | Q(kind=PlaceKind.STATION, station_key__isnull=False),
        event_key=event.pk,
    ).order_by("kind", "name")
