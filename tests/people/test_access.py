"""Who may see and do what: every URL × method × role, own and other stations."""

from datetime import timedelta
from uuid import uuid4

import pytest
from django.db import transaction
from django.urls import URLPattern, URLResolver, get_resolver, reverse

from hollow_kettle.debrief.models import Photo, Shortfall
from hollow_kettle.field import services as field
from hollow_kettle.instruments.services import make_device
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people import passes
from hollow_kettle.plan.models import OpenHours, Pin, Search, StationEquipment
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.stations.services import add_supply
from hollow_kettle.plan.sun.services import add_array
from hollow_kettle.shelf.models import Action, Estimate
from hollow_kettle.shelf.prints import paper
from tests.conftest import NOON

ROLES = (
    "coordinator", "station_lead", "logger", "runner", "observer", "stranger", "nobody",
)  # fmt: skip
EVERYBODY = "every role that is signed in"
MEMBERS = "whoever has a duty at the event; others don't know of it"
LOGGERS = "who logs: coordinator, lead, logger, runner; observers are told so"
BOSS = "the coordinator; others are told so"
EVENT_BOSS = "the coordinator; members are told so, others don't know of the event"
OPEN = "everybody, signed in or not"
HALF = "who just gave the right password; all others are led to the door"

#: What each rule answers to (coordinator, lead, logger, runner, observer, stranger).
ANSWERS = {
    EVERYBODY: (1, 1, 1, 1, 1, 1),
    MEMBERS: (1, 1, 1, 1, 1, 404),
    LOGGERS: (1, 1, 1, 1, 403, 404),
    BOSS: (1, 403, 403, 403, 403, 403),
    EVENT_BOSS: (1, 403, 403, 403, 403, 403),
    OPEN: (1, 1, 1, 1, 1, 1),
    HALF: ("door",) * 6,
}

TABLE = {
    ("home", "GET"): EVERYBODY,
    ("people:join", "GET"): OPEN,
    ("people:join", "POST"): OPEN,
    ("people:join_link", "GET"): OPEN,
    ("people:join_link", "POST"): OPEN,
    ("people:sign_in", "GET"): OPEN,
    ("people:sign_in", "POST"): OPEN,
    ("people:sign_out", "POST"): EVERYBODY,
    ("people:signed_in", "GET"): EVERYBODY,
    ("people:sign_out_elsewhere", "POST"): EVERYBODY,
    ("people:sign_in_code", "GET"): HALF,
    ("people:sign_in_code", "POST"): HALF,
    ("people:second_factor", "GET"): BOSS,
    ("people:second_factor", "POST"): BOSS,
    ("people:second_drop", "POST"): BOSS,
    ("people:person_second_drop", "POST"): BOSS,
    ("people:own_password", "GET"): EVERYBODY,
    ("people:own_password", "POST"): EVERYBODY,
    ("people:new_password", "GET"): OPEN,
    ("people:new_password", "POST"): OPEN,
    ("people:person_close", "POST"): BOSS,
    ("people:person_link", "POST"): BOSS,
    ("people:person_list", "GET"): BOSS,
    ("people:person_add", "GET"): BOSS,
    ("people:person_add", "POST"): BOSS,
    ("people:club_edit", "GET"): BOSS,
    ("people:club_edit", "POST"): BOSS,
    ("scripts:token_list", "GET"): BOSS,
    ("scripts:token_list", "POST"): BOSS,
    ("scripts:token_end", "POST"): BOSS,
    ("guide:contents", "GET"): EVERYBODY,
    ("guide:page", "GET"): EVERYBODY,
    ("upkeep:metrics", "GET"): OPEN,
    ("upkeep:how", "GET"): BOSS,
    ("upkeep:audit_list", "GET"): BOSS,
    ("upkeep:back_up", "POST"): BOSS,
    ("shelf:asset_list", "GET"): EVERYBODY,
    ("shelf:list_results", "GET"): EVERYBODY,
    ("shelf:asset_detail", "GET"): EVERYBODY,
    ("shelf:asset_recharge", "GET"): EVERYBODY,
    ("shelf:attachment", "GET"): EVERYBODY,
    ("shelf:out_list", "GET"): EVERYBODY,
    ("shelf:due_list", "GET"): EVERYBODY,
    ("shelf:gate_list", "GET"): EVERYBODY,
    ("shelf:matrix", "GET"): EVERYBODY,
    ("shelf:lead_finder", "GET"): EVERYBODY,
    ("shelf:charge_by", "GET"): EVERYBODY,
    ("shelf:kit_detail", "GET"): EVERYBODY,
    ("shelf:packing", "GET"): EVERYBODY,
    ("shelf:kit_card", "GET"): EVERYBODY,
    ("shelf:stops", "GET"): EVERYBODY,
    ("shelf:packing_print", "GET"): EVERYBODY,
    ("shelf:kit_drawing", "GET"): EVERYBODY,
    ("shelf:version_detail", "GET"): EVERYBODY,
    ("shelf:labels", "GET"): EVERYBODY,
    ("shelf:export", "GET"): EVERYBODY,
    ("shelf:export_all", "GET"): EVERYBODY,
    ("shelf:equipment_list", "GET"): EVERYBODY,
    ("shelf:packing_tick", "POST"): EVERYBODY,
    ("shelf:kind_list", "GET"): BOSS,
    ("shelf:asset_add", "GET"): BOSS,
    ("shelf:asset_add", "POST"): BOSS,
    ("shelf:asset_edit", "GET"): BOSS,
    ("shelf:asset_edit", "POST"): BOSS,
    ("shelf:bench_add", "GET"): BOSS,
    ("shelf:bench_add", "POST"): BOSS,
    ("shelf:equipment_add", "GET"): BOSS,
    ("shelf:equipment_add", "POST"): BOSS,
    ("shelf:equipment_edit", "GET"): BOSS,
    ("shelf:equipment_edit", "POST"): BOSS,
    ("shelf:equipment_delete", "POST"): BOSS,
    ("shelf:check_in", "GET"): BOSS,
    ("shelf:check_in", "POST"): BOSS,
    ("shelf:check_out", "GET"): BOSS,
    ("shelf:check_out", "POST"): BOSS,
    ("shelf:hold", "GET"): BOSS,
    ("shelf:hold", "POST"): BOSS,
    ("shelf:release", "GET"): BOSS,
    ("shelf:release", "POST"): BOSS,
    ("shelf:charged_many", "GET"): BOSS,
    ("shelf:charged_many", "POST"): BOSS,
    ("shelf:charged", "GET"): BOSS,
    ("shelf:charged", "POST"): BOSS,
    ("shelf:rested", "GET"): BOSS,
    ("shelf:rested", "POST"): BOSS,
    ("shelf:checked", "GET"): BOSS,
    ("shelf:checked", "POST"): BOSS,
    ("shelf:kit_path", "GET"): BOSS,
    ("shelf:kit_path", "POST"): BOSS,
    ("shelf:kit_contents", "GET"): BOSS,
    ("shelf:kit_contents", "POST"): BOSS,
    ("shelf:assumed", "GET"): BOSS,
    ("shelf:headings", "GET"): BOSS,
    ("shelf:headings", "POST"): BOSS,
    ("shelf:kit_records", "GET"): BOSS,
    ("shelf:kit_records", "POST"): BOSS,
    ("shelf:import", "GET"): BOSS,
    ("shelf:import", "POST"): BOSS,
    ("shelf:bulk", "POST"): BOSS,
    ("shelf:asset_archive", "POST"): BOSS,
    ("shelf:port_add", "POST"): BOSS,
    ("shelf:port_delete", "POST"): BOSS,
    ("shelf:attachment_add", "POST"): BOSS,
    ("shelf:attachment_delete", "POST"): BOSS,
    ("shelf:bench_accept", "POST"): BOSS,
    ("shelf:strike", "POST"): BOSS,
    ("shelf:finding_accept", "POST"): BOSS,
    ("shelf:finding_reopen", "POST"): BOSS,
    ("shelf:kit_start", "POST"): BOSS,
    ("shelf:way_add", "POST"): BOSS,
    ("shelf:version_add", "POST"): BOSS,
    ("shelf:packing_close", "POST"): BOSS,
    ("shelf:stops", "POST"): BOSS,
    ("shelf:part_delete", "POST"): BOSS,
    ("shelf:way_delete", "POST"): BOSS,
    ("shelf:item_edit", "POST"): BOSS,
    ("shelf:item_delete", "POST"): BOSS,
    ("shelf:note_done", "POST"): BOSS,
    ("shelf:noise_state", "POST"): BOSS,
    ("shelf:spare_count", "POST"): BOSS,
    ("shelf:import_apply", "POST"): BOSS,
    ("shelf:import_columns", "POST"): BOSS,
    ("label", "GET"): EVERYBODY,
    ("label_in_capitals", "GET"): EVERYBODY,
    ("plan:event_list", "GET"): EVERYBODY,
    ("plan:event_add", "GET"): BOSS,
    ("plan:event_add", "POST"): BOSS,
    ("plan:event_detail", "GET"): MEMBERS,
    ("plan:event_edit", "GET"): EVENT_BOSS,
    ("plan:event_edit", "POST"): EVENT_BOSS,
    ("plan:event_state", "POST"): EVENT_BOSS,
    ("plan:change_log", "GET"): EVENT_BOSS,
    ("plan:bring_back", "POST"): EVENT_BOSS,
    ("plan:station_detail", "GET"): MEMBERS,
    ("plan:station_add", "GET"): EVENT_BOSS,
    ("plan:station_add", "POST"): EVENT_BOSS,
    ("plan:station_edit", "GET"): EVENT_BOSS,
    ("plan:station_edit", "POST"): EVENT_BOSS,
    ("plan:station_order", "POST"): EVENT_BOSS,
    ("plan:station_delete", "POST"): EVENT_BOSS,
    ("plan:station_export", "GET"): MEMBERS,
    ("plan:station_import", "GET"): EVENT_BOSS,
    ("plan:station_import", "POST"): EVENT_BOSS,
    ("plan:station_import_apply", "POST"): EVENT_BOSS,
    ("plan:equipment_add", "POST"): EVENT_BOSS,
    ("plan:equipment_delete", "POST"): EVENT_BOSS,
    ("plan:hours_add", "POST"): EVENT_BOSS,
    ("plan:hours_delete", "POST"): EVENT_BOSS,
    ("plan:yard", "GET"): MEMBERS,
    ("plan:source_add", "POST"): EVENT_BOSS,
    ("plan:window_add", "POST"): EVENT_BOSS,
    ("plan:bay_add", "POST"): EVENT_BOSS,
    ("plan:crew_add", "POST"): EVENT_BOSS,
    ("plan:yard_row_delete", "POST"): EVENT_BOSS,
    ("plan:bay_edit", "GET"): EVENT_BOSS,
    ("plan:bay_edit", "POST"): EVENT_BOSS,
    ("plan:places", "GET"): MEMBERS,
    ("plan:charge_by", "GET"): MEMBERS,
    ("plan:walk_edit", "POST"): EVENT_BOSS,
    ("plan:batteries", "GET"): MEMBERS,
    ("plan:batteries", "POST"): MEMBERS,  # members other than the coordinator: 403
    ("plan:batteries_join", "POST"): EVENT_BOSS,
    ("plan:batteries_apart", "POST"): EVENT_BOSS,
    ("plan:duties", "GET"): EVENT_BOSS,
    ("plan:duties", "POST"): EVENT_BOSS,
    ("plan:feed", "GET"): EVENT_BOSS,
    ("plan:feed", "POST"): EVENT_BOSS,
    ("plan:feed_read", "GET"): OPEN,
    ("plan:pass_list", "GET"): EVENT_BOSS,
    ("plan:pass_list", "POST"): EVENT_BOSS,
    ("plan:pass_revoke", "POST"): EVENT_BOSS,
    ("plan:duty_delete", "POST"): EVENT_BOSS,
    ("plan:yard_place", "POST"): EVENT_BOSS,
    ("plan:pattern_add", "POST"): EVENT_BOSS,
    ("plan:source_edit", "GET"): EVENT_BOSS,
    ("plan:source_edit", "POST"): EVENT_BOSS,
    ("plan:supply_add", "GET"): EVENT_BOSS,
    ("plan:supply_add", "POST"): EVENT_BOSS,
    ("plan:supply_delete", "POST"): EVENT_BOSS,
    ("plan:what_if", "GET"): MEMBERS,
    ("plan:parallel_set", "GET"): MEMBERS,
    ("plan:sun", "GET"): MEMBERS,
    ("plan:array_add", "POST"): EVENT_BOSS,
    ("plan:array_edit", "GET"): EVENT_BOSS,
    ("plan:array_edit", "POST"): EVENT_BOSS,
    ("plan:array_noon", "POST"): EVENT_BOSS,
    ("plan:array_delete", "POST"): EVENT_BOSS,
    ("plan:horizon_edit", "POST"): EVENT_BOSS,
    ("plan:sky_edit", "POST"): EVENT_BOSS,
    ("plan:sky_import", "POST"): EVENT_BOSS,
    ("plan:sky_import_apply", "POST"): EVENT_BOSS,
    ("plan:event_copy", "GET"): EVENT_BOSS,
    ("plan:event_copy", "POST"): EVENT_BOSS,
    ("plan:event_compare", "GET"): MEMBERS,
    ("plan:resource_request", "GET"): MEMBERS,
    ("plan:scenario_export", "GET"): MEMBERS,
    ("plan:places_export", "GET"): MEMBERS,
    ("plan:hours_export", "GET"): MEMBERS,
    ("plan:scenario_import", "GET"): BOSS,
    ("plan:scenario_import", "POST"): BOSS,
    ("plan:scenario_import_apply", "POST"): BOSS,
    ("plan:rotation", "GET"): MEMBERS,
    ("plan:rotation_detail", "GET"): MEMBERS,
    ("plan:rotation_add", "POST"): EVENT_BOSS,
    ("plan:rotation_further", "GET"): MEMBERS,
    ("plan:rotation_publish", "POST"): EVENT_BOSS,
    ("plan:leg_why", "GET"): MEMBERS,
    ("plan:round_sheet", "GET"): MEMBERS,
    ("plan:slips", "GET"): MEMBERS,
    ("plan:wall_board", "GET"): MEMBERS,
    ("plan:calendar", "GET"): MEMBERS,
    ("plan:rotation_compare", "GET"): MEMBERS,
    ("plan:change_try", "POST"): EVENT_BOSS,
    ("plan:change_keep", "POST"): EVENT_BOSS,
    ("plan:rotation_take_back", "POST"): EVENT_BOSS,
    ("plan:pin_lift", "POST"): EVENT_BOSS,
    ("plan:trial_add", "POST"): EVENT_BOSS,
    ("plan:cures_add", "POST"): EVENT_BOSS,
    ("plan:trial", "GET"): MEMBERS,
    ("plan:search_add", "POST"): EVENT_BOSS,
    ("plan:search", "GET"): MEMBERS,
    ("plan:search_stop", "POST"): EVENT_BOSS,
    ("field:home", "GET"): EVERYBODY,
    ("field:find", "GET"): EVERYBODY,
    ("field:board", "GET"): MEMBERS,
    ("field:board_poll", "GET"): MEMBERS,
    ("field:worker", "GET"): EVERYBODY,
    ("field:samples_add", "POST"): OPEN,
    ("field:meter_list", "GET"): EVENT_BOSS,
    ("field:meter_list", "POST"): EVENT_BOSS,
    ("field:meter_close", "POST"): EVENT_BOSS,
    ("field:meter_file", "POST"): EVENT_BOSS,
    ("field:entries_add", "POST"): LOGGERS,
    ("field:move_state", "POST"): LOGGERS,
    ("field:call", "POST"): LOGGERS,
    ("field:alarm_seen", "POST"): LOGGERS,
    ("field:handover", "GET"): MEMBERS,
    ("field:fault_list", "GET"): MEMBERS,
    ("field:fault_fixed", "POST"): LOGGERS,
    ("field:line_add", "POST"): LOGGERS,
    ("field:line_preview", "GET"): LOGGERS,
    ("field:line_help", "GET"): LOGGERS,
    ("field:sheet_entry", "GET"): LOGGERS,
    ("field:sheet_entry", "POST"): LOGGERS,
    ("field:log_sheet", "GET"): MEMBERS,
    ("field:set_up", "POST"): EVENT_BOSS,
    ("field:set_up_list", "GET"): MEMBERS,
    ("field:tear_down", "GET"): MEMBERS,
    ("field:log_list", "GET"): MEMBERS,
    ("field:entry_add", "GET"): LOGGERS,
    ("field:entry_add", "POST"): LOGGERS,
    ("field:conflict_list", "GET"): EVENT_BOSS,
    ("field:conflict_answer", "POST"): EVENT_BOSS,
    ("field:entry_answer", "GET"): EVENT_BOSS,
    ("field:entry_answer", "POST"): EVENT_BOSS,
    ("field:entry_strike", "POST"): EVENT_BOSS,  # own entries: tests/field
    ("debrief:home", "GET"): EVERYBODY,
    ("debrief:event", "GET"): MEMBERS,
    ("debrief:action_list", "GET"): MEMBERS,
    ("debrief:action_add", "GET"): EVENT_BOSS,
    ("debrief:action_add", "POST"): EVENT_BOSS,
    ("shelf:action_list", "GET"): EVERYBODY,
    ("shelf:action_add", "GET"): BOSS,
    ("shelf:action_add", "POST"): BOSS,
    ("shelf:action_edit", "GET"): BOSS,
    ("shelf:action_edit", "POST"): BOSS,
    ("shelf:action_end", "POST"): BOSS,  # its owner too: tests/shelf/test_actions.py
    ("shelf:action_reopen", "POST"): BOSS,
    ("debrief:actuals", "GET"): MEMBERS,
    ("debrief:contacts", "GET"): MEMBERS,
    ("debrief:contacts", "POST"): EVENT_BOSS,
    ("debrief:years", "GET"): EVERYBODY,
    ("debrief:report", "GET"): MEMBERS,
    ("debrief:report_print", "GET"): MEMBERS,
    ("debrief:agency_print", "GET"): MEMBERS,
    ("debrief:power_log_print", "GET"): MEMBERS,
    ("debrief:report_text", "GET"): MEMBERS,
    ("debrief:report_package", "GET"): MEMBERS,
    ("debrief:backtest", "GET"): EVERYBODY,
    ("debrief:learned", "GET"): MEMBERS,
    ("debrief:learned_answer", "POST"): EVENT_BOSS,
    ("plan:learned_take", "POST"): EVENT_BOSS,
    ("debrief:causes", "GET"): MEMBERS,
    ("debrief:causes_results", "GET"): MEMBERS,
    ("debrief:causes_add", "POST"): EVENT_BOSS,
    ("debrief:photo", "GET"): MEMBERS,
    ("debrief:photo_add", "POST"): EVENT_BOSS,
    ("debrief:photo_delete", "POST"): EVENT_BOSS,
    ("debrief:shortfall_add", "GET"): EVENT_BOSS,
    ("debrief:shortfall_add", "POST"): EVENT_BOSS,
    ("debrief:shortfall_merge", "POST"): EVENT_BOSS,
    ("debrief:shortfall_back", "POST"): EVENT_BOSS,
    ("debrief:shortfall_edit", "GET"): EVENT_BOSS,
    ("debrief:shortfall_edit", "POST"): EVENT_BOSS,
    ("debrief:shortfall_split", "POST"): EVENT_BOSS,
    ("debrief:shortfall_drop", "POST"): EVENT_BOSS,
}
EXCEPTIONS = {
    ("debrief:contacts", "POST"): (1, 403, 403, 403, 403, 404),
    ("plan:batteries", "POST"): (1, 403, 403, 403, 403, 404),
    ("field:entry_strike", "POST"): (1, 403, 403, 403, 403, 404),
}


def named_urls(patterns=None, prefix="", names=()):
    """Every named URL of the application with the names of its parts."""
    for pattern in patterns or get_resolver().url_patterns:
        parts = (*names, *pattern.pattern.converters)
        if getattr(pattern, "namespace", "") == "api":
            continue  # asked by tokens alone: tests/api
        if isinstance(pattern, URLResolver):
            inner = f"{pattern.app_name}:" if pattern.app_name else prefix
            yield from named_urls(pattern.url_patterns, inner, parts)
        elif isinstance(pattern, URLPattern):
            yield f"{prefix}{pattern.name}", parts


@pytest.fixture(autouse=True)
def quick_paper(monkeypatch):
    """Pages on paper have tests of their own; here only who gets them counts."""
    monkeypatch.setattr(paper, "_render", lambda *args: b"%PDF-")


@pytest.fixture
def urls(event, esker, shelf, kit, marin, people):
    """An address for every named URL, with things that exist."""
    rotation = make_rotation(event, by=marin)
    search = Search.objects.create(event=event, rotation=rotation)
    hours = {"starts_at": event.starts_at, "ends_at": event.ends_at}
    pin = Pin.objects.create(event=event, kind="no_walk", **hours)
    start = {"by": marin, "at": event.starts_at}
    field.note(event, "note", note="rain", **start)
    field.note(event, "fault", note="no volts", symptom="no_power", **start)
    span = {"starts": NOON, "ends": NOON + timedelta(hours=2)}
    add_supply(esker, kind="mains", max_w=50, **span)
    add_array(event, station=esker, watts=100)
    short = {"event": event, "station": esker, "what": "off_air", **hours}
    action = Action.objects.create(words="crimp it", due_on=NOON.date(), owner=marin)
    fall = str(Shortfall.objects.create(**short).pk)
    known = {
        "uid": event.pk, "station_uid": esker.pk, "upload_uid": uuid4(),
        "source_uid": event.sources.get().pk, "number": rotation.number,
        "bay_uid": event.bays.get().pk, "site_pk": esker.site_id, "what": "reading",
        "key": {"shelf:equipment_edit": "hf-40w", "shelf:equipment_delete": "hf-40w"}
        | {f"debrief:shortfall_{what}": fall for what in ("edit", "split", "drop")}
        | {"debrief:photo_add": fall},
        "photo_uid": Photo.objects.create(shortfall_id=fall, content=b"").pk,
        "kind": "battery", "uidb64": "MQ",
        "device_uid": make_device(
            event, by=marin, name="M1", kind="shunt", subject=shelf["K01"].pk
        )[0].pk,
        "pass_uid": passes.make_pass(
            event.pk, event.name, role="logger", station_key=None, hours=1, by=marin
        ).made.pk,
        "token": kit.token, "lead": shelf["K01"].pk,
        "pk": {
            "debrief:shortfall_back": Shortfall.objects.create(
                **short, is_dropped=True
            ).pk,
            "debrief:learned_answer": Estimate.objects.create(
                subject=esker.pk, quantity="draw_factor", mean=1.3, sd=0.1,
                event_key=event.pk,
            ).pk,
            "field:entry_answer": FieldEntry.objects.get(kind="note").pk,
            "field:entry_strike": FieldEntry.objects.get(kind="note").pk,
            "field:fault_fixed": FieldEntry.objects.get(kind="fault").pk,
            "plan:equipment_delete": StationEquipment.objects.first().pk,
            "plan:hours_delete": OpenHours.objects.first().pk,
            "plan:supply_delete": esker.supplies.get().pk,
            "plan:leg_why": rotation.legs.filter(kind="serve").first().pk,
            "plan:pin_lift": pin.pk,
            "plan:search": search.pk,
            "plan:search_stop": search.pk,
            "plan:array_edit": esker.arrays.get().pk,
            "plan:array_noon": esker.arrays.get().pk,
            "plan:array_delete": esker.arrays.get().pk,
            "plan:duty_delete": people["observer"].duties.get().pk,
            "shelf:port_delete": kit.ports.get().pk,
            "shelf:part_delete": kit.path.first().pk,
            "shelf:way_delete": kit.charge_ways.get().pk,
            "shelf:item_edit": kit.items.first().pk,
            "shelf:item_delete": kit.items.first().pk,
            "shelf:version_detail": kit.versions.get().pk,
            "shelf:note_done": kit.build_notes.get().pk,
            "shelf:noise_state": kit.noises.get().pk,
            "shelf:spare_count": kit.spares.get().pk,
        },
        "slug": "night",
    }  # fmt: skip
    found = {}
    for name, parts in named_urls():
        kwargs = {}
        for part in parts:
            value = known[part]
            kwargs[part] = value.get(name, 1) if isinstance(value, dict) else value
        if name.startswith("shelf:") and "uid" in parts:
            kwargs["uid"] = shelf_uid(name, shelf["K01"], kit)
        if name in ("shelf:action_edit", "shelf:action_end", "shelf:action_reopen"):
            kwargs["uid"] = action.pk
        if name == "plan:yard_row_delete":
            kwargs["what"] = "crew"
        if name.startswith("people:person_") and "uid" in parts:
            kwargs["uid"] = people["stranger"].pk
        found[name] = reverse(name, kwargs=kwargs)
    return found


def shelf_uid(name, battery, kit):
    """The key of something that exists, of the kind that an address is about."""
    if name.startswith("shelf:attachment") and name != "shelf:attachment_add":
        return kit.attachments.get().pk
    if name == "shelf:bench_accept":
        return battery.tests.get().pk
    is_kit = name.startswith(
        ("shelf:kit", "shelf:packing", "shelf:stops", "shelf:way", "shelf:ver")
    )
    return kit.pk if is_kit else battery.pk


def test_every_url_is_in_the_table():
    """A page that nobody thought about fails here."""
    listed = {name for name, _ in TABLE}

    assert {name for name, _ in named_urls()} == listed


@pytest.mark.parametrize("role", ROLES)
def test_each_role_gets_what_the_table_says(role, urls, client_of):
    """1 means the page answers (not 403, 404 or the door); else that very status."""
    client = client_of(role)
    wrong = []
    for (name, method), rule in TABLE.items():
        if name == "people:sign_out":
            continue
        answers = EXCEPTIONS.get((name, method), ANSWERS[rule])
        want = "door" if role == "nobody" else answers[ROLES.index(role)]
        if role == "nobody" and rule == OPEN:
            want = 1
        with transaction.atomic():  # what one request deletes, the next still finds
            response = client.generic(method, urls[name])
            transaction.set_rollback(True)
        got = response.status_code
        if got == 302 and "/sign-in/" in response["Location"]:
            got = "door"
        elif got not in (403, 404) or (want == 1 and name in _MISSING_IS_FINE):
            got = 1
        if got != want:
            wrong.append((name, method, want, got))

    assert wrong == []


#: With made-up keys these answer 404 to whoever may use them.
_MISSING_IS_FINE = {
    "plan:yard_row_delete", "plan:walk_edit", "plan:event_state", "plan:source_add",
    "shelf:import_apply", "shelf:import_columns", "plan:station_import_apply",
    "plan:sky_import_apply", "plan:scenario_import_apply", "people:join_link",
    "plan:feed_read", "scripts:token_end",
}  # fmt: skip


@pytest.mark.parametrize(
    ("role", "own", "other"),
    [
        ("station_lead", 302, 403),
        ("logger", 302, 302),
        ("runner", 302, 302),
        ("observer", 403, 403),
    ],
)
def test_a_lead_logs_for_the_own_station_only(
    role, own, other, event, esker, drumlin, shelf, client_of
):
    """Swaps and being off the air, at Esker (the lead's) and at Drumlin."""
    client = client_of(role)
    for station, want in ((esker, own), (drumlin, other)):
        swap = {"uid": uuid4(), "station": station.pk, "tag": "K01"}
        off = {"uid": uuid4(), "station": station.pk, "what": "off_air"}
        for what, data in (("swap", swap), ("station", off)):
            url = reverse("field:entry_add", args=[event.pk, what])
            assert client.post(url, data).status_code == want


def test_a_lead_reads_only_the_battery_at_the_own_station(
    event, esker, drumlin, shelf, client_of, marin
):
    """K01 serves at Esker, K02 at Drumlin."""
    field.log_swap(event, esker, battery=shelf["K01"], by=marin, at=event.starts_at)
    field.log_swap(event, drumlin, battery=shelf["K02"], by=marin, at=event.starts_at)
    url = reverse("field:entry_add", args=[event.pk, "reading"])

    def answer(role, tag):
        data = {"uid": uuid4(), "tag": tag, "gauge_pct": "80", "how": "receiving"}
        assert client_of(role).post(url, data).status_code == 302
        entry = FieldEntry.objects.latest("pk")
        return entry.standing, entry.standing_why

    assert answer("station_lead", "K01")[0] == "kept"
    # A slip of the pen is not refused with nothing kept: it waits, and counts not.
    wrong = ("quarantine", "K02 is not logged at your station")
    assert answer("station_lead", "K02") == wrong
    unknown = ("quarantine", "no battery K91 on the shelf")
    assert answer("station_lead", "K91") == unknown
    assert answer("logger", "K02")[0] == "kept"
