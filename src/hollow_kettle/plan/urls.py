"""URLs of the Plan."""

from django.urls import include, path

from . import views

app_name = "plan"
_event = [
    path("", views.event_detail, name="event_detail"),
    path("edit/", views.event_edit, name="event_edit"),
    path("state/", views.event_state, name="event_state"),
    path("stations/add/", views.station_add, name="station_add"),
    path("stations/export/", views.station_export, name="station_export"),
    path("stations/import/", views.station_import, name="station_import"),
    path(
        "stations/import/<uuid:upload_uid>/",
        views.station_import_apply,
        name="station_import_apply",
    ),
    path("stations/<uuid:station_uid>/", views.station_detail, name="station_detail"),
    path("stations/<uuid:station_uid>/edit/", views.station_edit, name="station_edit"),
    path(
        "stations/<uuid:station_uid>/delete/",
        views.station_delete,
        name="station_delete",
    ),
    path(
        "stations/<uuid:station_uid>/equipment/",
        views.equipment_add,
        name="equipment_add",
    ),
    path("stations/<uuid:station_uid>/hours/", views.hours_add, name="hours_add"),
    path("equipment/<int:pk>/delete/", views.equipment_delete, name="equipment_delete"),
    path("hours/<int:pk>/delete/", views.hours_delete, name="hours_delete"),
    path("yard/", views.yard, name="yard"),
    path("yard/sources/", views.source_add, name="source_add"),
    path(
        "yard/sources/<uuid:source_uid>/windows/", views.window_add, name="window_add"
    ),
    path("yard/bays/", views.bay_add, name="bay_add"),
    path("yard/crews/", views.crew_add, name="crew_add"),
    path(
        "yard/<slug:what>/<slug:key>/delete/",
        views.yard_row_delete,
        name="yard_row_delete",
    ),
    path("charge-by/", views.charge_by, name="charge_by"),
    path("places/", views.places, name="places"),
    path("places/walk/", views.walk_edit, name="walk_edit"),
    path("batteries/", views.batteries, name="batteries"),
    path("people/", views.duties, name="duties"),
    path("people/<int:pk>/delete/", views.duty_delete, name="duty_delete"),
    path("rotation/", views.rotation, name="rotation"),
    path("rotation/make/", views.rotation_add, name="rotation_add"),
    path("rotation/<int:number>/", views.rotation_detail, name="rotation_detail"),
    path(
        "rotation/<int:number>/publish/",
        views.rotation_publish,
        name="rotation_publish",
    ),
]
urlpatterns = [
    path("", views.event_list, name="event_list"),
    path("events/add/", views.event_add, name="event_add"),
    path("events/<uuid:uid>/", include(_event)),
]
