"""What scripts may ask for and send; the description of the API is made from this."""

from __future__ import annotations

from typing import Any
from uuid import UUID, uuid5

from django.core.exceptions import PermissionDenied, ValidationError
from django.http import Http404, HttpRequest, HttpResponse
from django.middleware.http import ConditionalGetMiddleware
from django.utils.cache import get_conditional_response
from django.utils.http import quote_etag
from ninja import NinjaAPI, Query
from ninja.errors import ValidationError as NotInShape
from ninja.responses import Status
from ninja.security import HttpBearer

from hollow_kettle.field.hearing import note_heard
from hollow_kettle.field.line import Ear
from hollow_kettle.field.phone import plain
from hollow_kettle.field.queries import board_of, version_of
from hollow_kettle.people.access import Access
from hollow_kettle.people.tokens import TooOften
from hollow_kettle.plan.access import events_visible_to
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.bench.forms import BenchForm
from hollow_kettle.shelf.bench.services import record_test
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.asset import AssetKind

from . import reading, shapes
from .access import access_of_token
from .services import MOST_A_MINUTE, token_of

#: The number in every address; it changes when a shape loses or renames something.
VERSION = "1"
MOST_ENTRIES = 500


class Bearer(HttpBearer):
    """A script says who it is by its token."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        """Put what the script may do onto its request."""
        found = token_of(token)
        if found is None:
            return None
        request.access = access_of_token(found)  # type: ignore[attr-defined]
        return found


class KettleAPI(NinjaAPI):
    """Answers that are not sent again to whoever has them already."""

    def create_response(
        self, request: HttpRequest, data: Any, **kwargs: Any
    ) -> HttpResponse:
        """Give each answer its ETag, and say 304 where it is known."""
        response = super().create_response(request, data, **kwargs)
        conditional = ConditionalGetMiddleware(lambda _: response)
        return conditional.process_response(request, response)  # type: ignore[return-value]


api = KettleAPI(
    title="Hollow Kettle",
    version=VERSION,
    description=(
        "What pages show and take, for a club's own scripts. Each says who it is by "
        "`Authorization: Bearer TOKEN`; a coordinator makes tokens under People, "
        "Scripts. Ask again with the `If-None-Match` of the last answer's `ETag`: 304 "
        "means that nothing changed. Times are UTC."
    ),
    docs_url=None,
    urls_namespace="api",
    auth=Bearer(),
)

_REFUSALS: dict[int, Any] = dict.fromkeys((401, 403, 404, 422, 429), shapes.Refused)


def _refuse(request: HttpRequest, code: int, *faults: tuple[str, str]) -> HttpResponse:
    detail = [{"field": name, "words": words} for name, words in faults]
    return api.create_response(request, {"detail": detail}, status=code)


@api.exception_handler(NotInShape)
def _not_in_shape(request: HttpRequest, error: NotInShape) -> HttpResponse:
    found = [
        (".".join(map(str, fault["loc"][2:] or fault["loc"])), str(fault["msg"]))
        for fault in error.errors
    ]
    return _refuse(request, 422, *found)


@api.exception_handler(PermissionDenied)
def _not_allowed(request: HttpRequest, _: PermissionDenied) -> HttpResponse:
    return _refuse(request, 403, ("", "This token may not do that."))


@api.exception_handler(Http404)
def _not_there(request: HttpRequest, _: Http404) -> HttpResponse:
    return _refuse(request, 404, ("", "There is no such thing."))


@api.exception_handler(TooOften)
def _too_often(request: HttpRequest, _: TooOften) -> HttpResponse:
    words = f"A script asks at most {MOST_A_MINUTE} times a minute."
    return _refuse(request, 429, ("", words))


def _access(request: HttpRequest) -> Access:
    access: Access = request.access  # type: ignore[attr-defined]
    return access


def _event(request: HttpRequest, uid: UUID) -> Event:
    event = events_visible_to(_access(request)).filter(pk=uid).first()
    if event is None:
        raise Http404
    return event


@api.get("/shelf", response={200: list[shapes.Thing]} | _REFUSALS, tags=["shelf"])
def shelf(request: HttpRequest, kind: str = "") -> Any:
    """What is on the shelf: all of it, or of one kind (`battery`, `charger`, …)."""
    return reading.things(kind=kind)


@api.get("/shelf/{tag}", response={200: shapes.Thing} | _REFUSALS, tags=["shelf"])
def thing(request: HttpRequest, tag: str) -> Any:
    """One thing, by its tag."""
    found = reading.things(tag=tag)
    if not found:
        raise Http404
    return found[0]


@api.post(
    "/shelf/{tag}/tests", response={201: shapes.TestOf} | _REFUSALS, tags=["shelf"]
)
def test_add(request: HttpRequest, tag: str, sent: shapes.TestIn) -> Any:
    """Note a bench test; a coordinator accepts what it found on the battery's page."""
    access = _access(request)
    if not access.is_coordinator or access.actor is None:
        raise PermissionDenied
    asset = Asset.objects.filter(archived_at=None, tag__iexact=tag).first()
    if asset is None or asset.kind not in (AssetKind.BATTERY, AssetKind.BANK):
        raise Http404
    data = {
        name: value
        for name, value in plain(sent.dict()).items()
        if value not in (None, False)
    }
    for name, kind in (("meter", AssetKind.METER), ("charger", AssetKind.CHARGER)):
        if said := data.get(name):
            known = Asset.objects.filter(archived_at=None, kind=kind, tag__iexact=said)
            data[name] = known.values_list("pk", flat=True).first()
            if data[name] is None:
                return _refuse(request, 422, (name, f"No {name} has the tag “{said}”."))
    form = BenchForm(asset, data)
    if form.is_valid():
        kept = form.cleaned_data
        try:
            test = record_test(asset, by=access.actor, rows=kept.pop("lines"), **kept)
        except ValidationError as error:
            form.add_error(None, error)
        else:
            kept_as = shapes.TestOf(
                uid=test.pk, result=test.result, unit=test.unit, words=test.words
            )
            return Status(201, kept_as)
    faults = [
        ("" if name == "__all__" else name, str(words))
        for name, them in form.errors.items()
        for words in them
    ]
    return _refuse(request, 422, *faults)


@api.get("/events", response={200: list[shapes.EventOf]} | _REFUSALS, tags=["events"])
def events(request: HttpRequest) -> Any:
    """All events, with their stations."""
    found = events_visible_to(_access(request)).prefetch_related("stations")
    return [reading.event_shape(one) for one in found]


@api.get("/events/{uid}", response={200: shapes.EventOf} | _REFUSALS, tags=["events"])
def event(request: HttpRequest, uid: UUID) -> Any:
    """One event."""
    return reading.event_shape(_event(request, uid))


@api.get(
    "/events/{uid}/rotation",
    response={200: shapes.RotationOf} | _REFUSALS,
    tags=["events"],
)
def rotation(request: HttpRequest, uid: UUID) -> Any:
    """The published rotation; 404 where none is."""
    found = _event(request, uid)
    plan = published(found)
    if plan is None:
        raise Http404
    return reading.rotation_shape(found, plan)


@api.get(
    "/events/{uid}/board", response={200: shapes.BoardOf} | _REFUSALS, tags=["events"]
)
def board(request: HttpRequest, uid: UUID, response: HttpResponse) -> Any:
    """The field board as it is now; its ETag moves with each entry and with time."""
    found = _event(request, uid)
    now = found.clock.now()
    etag = quote_etag(version_of(found, now))
    known = get_conditional_response(request, etag=etag)
    if known is not None:
        return known
    response["ETag"] = etag
    return reading.board_shape(board_of(found, now))


@api.get(
    "/events/{uid}/log", response={200: list[shapes.EntryOf]} | _REFUSALS, tags=["log"]
)
def log(
    request: HttpRequest, uid: UUID, most: int = Query(100, ge=1, le=MOST_ENTRIES)
) -> Any:
    """The newest entries of the log, newest first."""
    return reading.entries(_event(request, uid), most)


@api.post(
    "/events/{uid}/log",
    response={200: list[shapes.HeardOf], 409: list[shapes.HeardOf]} | _REFUSALS,
    tags=["log"],
)
def log_add(request: HttpRequest, uid: UUID, sent: shapes.LineIn) -> Any:
    """
    Log what somebody would type into the log line.

    409 where something is asked about: that line was not noted; send the line of the
    choice that is meant, under a key of its own.
    """
    access, found = _access(request), _event(request, uid)
    if not access.may_log_something(found.pk):
        raise PermissionDenied
    ear = Ear(found)
    heard = ear.hear(plain(sent.line))
    if not heard:
        return _refuse(request, 422, ("line", "Nothing was typed."))
    for number, one in enumerate(heard):
        if one.said is not None:
            key = uuid5(sent.key, f"{number} {one.line}")
            note_heard(access, ear, one, key, device=f"script {access.actor}"[:60])
    lines = [
        shapes.HeardOf(
            line=one.line,
            words=one.words,
            saved=one.saved,
            asks="" if one.saved else one.asks,
            choices=[
                shapes.ChoiceOf(words=choice.words, line=choice.line)
                for choice in one.choices
                if not one.saved
            ],
        )
        for one in heard
    ]
    return Status(200 if all(one.saved for one in heard) else 409, lines)
