"""URLs of how the application is; probes are answered before any URL is looked at."""

from django.contrib.auth.decorators import login_not_required
from django.urls import path

from . import views

app_name = "upkeep"
urlpatterns = [
    path("kettle/", views.how, name="how"),
    path("kettle/changes/", views.audit_list, name="audit_list"),
    path("kettle/backup/", views.back_up, name="back_up"),
    path("metrics", login_not_required(views.metrics), name="metrics"),
]
