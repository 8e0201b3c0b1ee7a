"""URLs of the Plan."""

from django.urls import include, path

from .events import pass_views as passes
from .events import views as events
from .files import views as files
from .ledger import views as ledger
from .rotation import feed_views, paper_views
from .rotation import views as rotation_views
from .stations import views as stations
from .sun import views as sun
from .yard import views as yard

app_name = "plan"
_event = [
    path("", ledger.event_detail, name="event_detail"),
    path("edit/", events.event_edit, name="event_edit"),
    path("state/", events.event_state, name="event_state"),
    path("changes/", events.change_log, name="change_log"),
    path("changes/<int:pk>/bring-back/", events.bring_back, name="bring_back"),
    path("stations/add/", stations.station_add, name="station_add"),
    path("stations/export/", stations.station_export, name="station_export"),
    path("stations/import/", stations.station_import, name="station_import"),
    path(
        "stations/import/<uuid:upload_uid>/",
        stations.station_import_apply,
        name="station_import_apply",
    ),
    path(
        "stations/<uuid:station_uid>/", stations.station_detail, name="station_detail"
    ),
    path(
        "stations/<uuid:station_uid>/edit/", stations.station_edit, name="station_edit"
    ),
    path(
        "stations/<uuid:station_uid>/order/",
        stations.station_order,
        name="station_order",
    ),
    path("learned/", stations.learned_take, name="learned_take"),
    path(
        "stations/<uuid:station_uid>/delete/",
        stations.station_delete,
        name="station_delete",
    ),
    path(
        "stations/<uuid:station_uid>/equipment/",
        stations.equipment_add,
        name="equipment_add",
    ),
    path("stations/<uuid:station_uid>/hours/", stations.hours_add, name="hours_add"),
    path(
        "stations/<uuid:station_uid>/patterns/",
        stations.pattern_add,
        name="pattern_add",
    ),
    path(
        "equipment/<int:pk>/delete/", stations.equipment_delete, name="equipment_delete"
    ),
    path(
        "stations/<uuid:station_uid>/supplies/add/",
        stations.supply_add,
        name="supply_add",
    ),
    path("stations/<uuid:station_uid>/what-if/", ledger.what_if, name="what_if"),
    path(
        "stations/<uuid:station_uid>/set/",
        ledger.parallel_set,
        name="parallel_set",
    ),
    path("supplies/<int:pk>/delete/", stations.supply_delete, name="supply_delete"),
    path("sun/", sun.sun_page, name="sun"),
    path("sun/arrays/", sun.array_add, name="array_add"),
    path("sun/arrays/<int:pk>/", sun.array_edit, name="array_edit"),
    path("sun/arrays/<int:pk>/reading/", sun.array_noon, name="array_noon"),
    path("sun/arrays/<int:pk>/delete/", sun.array_delete, name="array_delete"),
    path("sun/horizon/<int:site_pk>/", sun.horizon_edit, name="horizon_edit"),
    path("sun/sky/", sun.sky_edit, name="sky_edit"),
    path("sun/sky/import/", sun.sky_import, name="sky_import"),
    path(
        "sun/sky/import/<uuid:upload_uid>/",
        sun.sky_import_apply,
        name="sky_import_apply",
    ),
    path("copy/", files.event_copy, name="event_copy"),
    path("compare/", ledger.event_compare, name="event_compare"),
    path("request/", ledger.resource_request, name="resource_request"),
    path("scenario/", files.scenario_export, name="scenario_export"),
    path("places.geojson", files.places_export, name="places_export"),
    path("hours.ics", files.hours_export, name="hours_export"),
    path("hours/<int:pk>/delete/", stations.hours_delete, name="hours_delete"),
    path("yard/", yard.yard, name="yard"),
    path("yard/sources/", yard.source_add, name="source_add"),
    path("yard/sources/<uuid:source_uid>/windows/", yard.window_add, name="window_add"),
    path(
        "yard/sources/<uuid:source_uid>/edit/",
        yard.source_edit,
        name="source_edit",
    ),
    path("yard/bays/", yard.bay_add, name="bay_add"),
    path("yard/bays/<uuid:bay_uid>/edit/", yard.bay_edit, name="bay_edit"),
    path("yard/crews/", yard.crew_add, name="crew_add"),
    path(
        "yard/<slug:what>/<slug:key>/delete/",
        yard.yard_row_delete,
        name="yard_row_delete",
    ),
    path("charge-by/", yard.charge_by, name="charge_by"),
    path("places/", yard.places, name="places"),
    path("places/yard/", yard.yard_place, name="yard_place"),
    path("places/walk/", yard.walk_edit, name="walk_edit"),
    path("batteries/", events.batteries, name="batteries"),
    path("batteries/join/", events.batteries_join, name="batteries_join"),
    path(
        "batteries/<uuid:lead>/apart/", events.batteries_apart, name="batteries_apart"
    ),
    path("people/", events.duties, name="duties"),
    path("people/<int:pk>/delete/", events.duty_delete, name="duty_delete"),
    path("people/passes/", passes.pass_list, name="pass_list"),
    path(
        "people/passes/<uuid:pass_uid>/revoke/", passes.pass_revoke, name="pass_revoke"
    ),
    path("rotation/", rotation_views.rotation, name="rotation"),
    path("rotation/calendar/", feed_views.feed, name="feed"),
    path("rotation/compare/", rotation_views.rotation_compare, name="rotation_compare"),
    path("rotation/make/", rotation_views.rotation_add, name="rotation_add"),
    path(
        "rotation/<int:number>/", rotation_views.rotation_detail, name="rotation_detail"
    ),
    path(
        "rotation/<int:number>/further/",
        rotation_views.rotation_further,
        name="rotation_further",
    ),
    path(
        "rotation/<int:number>/publish/",
        rotation_views.rotation_publish,
        name="rotation_publish",
    ),
    path(
        "rotation/<int:number>/search/",
        rotation_views.search_add,
        name="search_add",
    ),
    path(
        "rotation/<int:number>/legs/<int:pk>/",
        rotation_views.leg_why,
        name="leg_why",
    ),
    path(
        "rotation/<int:number>/rounds.pdf",
        paper_views.round_sheet,
        name="round_sheet",
    ),
    path("rotation/<int:number>/board.pdf", paper_views.wall_board, name="wall_board"),
    path("rotation/<int:number>/slips.pdf", paper_views.slips, name="slips"),
    path("rotation/<int:number>/rounds.ics", paper_views.calendar, name="calendar"),
    path(
        "rotation/<int:number>/futures/",
        rotation_views.trial_detail,
        name="trial",
    ),
    path(
        "rotation/<int:number>/futures/cures/",
        rotation_views.cures_add,
        name="cures_add",
    ),
    path(
        "rotation/<int:number>/futures/try/",
        rotation_views.trial_add,
        name="trial_add",
    ),
    path(
        "rotation/<int:number>/change/try/",
        rotation_views.change_try,
        name="change_try",
    ),
    path(
        "rotation/<int:number>/change/keep/",
        rotation_views.change_keep,
        name="change_keep",
    ),
    path(
        "rotation/<int:number>/take-back/",
        rotation_views.rotation_take_back,
        name="rotation_take_back",
    ),
    path(
        "rotation/<int:number>/pins/<int:pk>/lift/",
        rotation_views.pin_lift,
        name="pin_lift",
    ),
    path("rotation/search/<int:pk>/", rotation_views.search_detail, name="search"),
    path(
        "rotation/search/<int:pk>/stop/",
        rotation_views.search_stop,
        name="search_stop",
    ),
]
urlpatterns = [
    path("", events.event_list, name="event_list"),
    path("events/add/", events.event_add, name="event_add"),
    path("events/import/", files.scenario_import, name="scenario_import"),
    path(
        "events/import/<uuid:upload_uid>/",
        files.scenario_import_apply,
        name="scenario_import_apply",
    ),
    path("events/<uuid:uid>/", include(_event)),
    path("calendar/<str:token>.ics", feed_views.feed_read, name="feed_read"),
]
