"""URLs of the Field."""

from django.urls import path

from . import answer_views as answers
from . import fault_views as faults
from . import line_views as lines
from . import meter_views as meters
from . import phone_views as phones
from . import sheet_views as sheets
from . import views
from . import watch_views as watch

app_name = "field"
urlpatterns = [
    path("", views.home, name="home"),
    path("find/", views.find, name="find"),
    path("meters/samples/", meters.samples_add, name="samples_add"),
    path("worker.js", phones.worker_script, name="worker"),
    path("<uuid:uid>/", views.board, name="board"),
    path("<uuid:uid>/entries/", phones.entries_add, name="entries_add"),
    path("<uuid:uid>/live/", views.board_poll, name="board_poll"),
    path("<uuid:uid>/line/", lines.line_add, name="line_add"),
    path("<uuid:uid>/line/heard/", lines.line_preview, name="line_preview"),
    path("<uuid:uid>/line/help/", lines.line_help, name="line_help"),
    path("<uuid:uid>/meters/", meters.meter_list, name="meter_list"),
    path(
        "<uuid:uid>/meters/<uuid:device_uid>/close/",
        meters.meter_close,
        name="meter_close",
    ),
    path(
        "<uuid:uid>/meters/<uuid:device_uid>/file/",
        meters.meter_file,
        name="meter_file",
    ),
    path("<uuid:uid>/moves/", watch.move_state, name="move_state"),
    path("<uuid:uid>/alarms/seen/", watch.alarm_seen, name="alarm_seen"),
    path("<uuid:uid>/call/", watch.call, name="call"),
    path("<uuid:uid>/handover/", watch.handover, name="handover"),
    path("<uuid:uid>/set-up/list/", watch.set_up_list, name="set_up_list"),
    path("<uuid:uid>/tear-down/", watch.tear_down, name="tear_down"),
    path("<uuid:uid>/set-up/", views.set_up, name="set_up"),
    path("<uuid:uid>/conflicts/", answers.conflict_list, name="conflict_list"),
    path("<uuid:uid>/conflict/", answers.conflict_answer, name="conflict_answer"),
    path("<uuid:uid>/faults/", faults.fault_list, name="fault_list"),
    path("<uuid:uid>/faults/<int:pk>/fixed/", faults.fault_fixed, name="fault_fixed"),
    path("<uuid:uid>/sheet/", sheets.sheet_entry, name="sheet_entry"),
    path("<uuid:uid>/sheet/blank/", sheets.log_sheet, name="log_sheet"),
    path("<uuid:uid>/log/", views.log_list, name="log_list"),
    path("<uuid:uid>/log/<slug:what>/", views.entry_add, name="entry_add"),
    path("<uuid:uid>/log/<int:pk>/answer/", answers.entry_answer, name="entry_answer"),
    path("<uuid:uid>/log/<int:pk>/strike/", answers.entry_strike, name="entry_strike"),
]
