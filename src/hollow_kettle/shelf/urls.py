"""URLs of the Shelf."""

from django.urls import path

from . import views

app_name = "shelf"
urlpatterns = [
    path("", views.battery_list, name="battery_list"),
    path("batteries/add/", views.battery_add, name="battery_add"),
    path("batteries/export/", views.battery_export, name="battery_export"),
    path("batteries/import/", views.battery_import, name="battery_import"),
    path(
        "batteries/import/<uuid:uid>/",
        views.battery_import_apply,
        name="battery_import_apply",
    ),
    path("batteries/<uuid:uid>/", views.battery_detail, name="battery_detail"),
    path("batteries/<uuid:uid>/edit/", views.battery_edit, name="battery_edit"),
    path("batteries/<uuid:uid>/capacity/", views.capacity_add, name="capacity_add"),
    path(
        "batteries/<uuid:uid>/archive/", views.battery_archive, name="battery_archive"
    ),
    path("equipment/", views.equipment_list, name="equipment_list"),
]
