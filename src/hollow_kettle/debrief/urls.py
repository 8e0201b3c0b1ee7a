"""URLs of the Debrief."""

from django.urls import path

from . import views
from .actions import views as action_views
from .actuals import views as actual_views
from .causes import views as cause_views
from .contacts import views as contact_views
from .learning import views as learning_views
from .reports import views as report_views
from .shortfalls import views as shortfall_views
from .years import views as year_views

app_name = "debrief"
urlpatterns = [
    path("", views.home, name="home"),
    path("<uuid:uid>/", views.event, name="event"),
    path("<uuid:uid>/actions/", action_views.action_list, name="action_list"),
    path("<uuid:uid>/actions/add/", action_views.action_add, name="action_add"),
    path("backtest/", learning_views.backtest_page, name="backtest"),
    path("<uuid:uid>/learned/", learning_views.learned, name="learned"),
    path(
        "<uuid:uid>/learned/<int:pk>/answer/",
        learning_views.learned_answer,
        name="learned_answer",
    ),
    path("<uuid:uid>/actuals/", actual_views.actuals, name="actuals"),
    path("<uuid:uid>/report/", report_views.report, name="report"),
    path("<uuid:uid>/report/print/", report_views.report_print, name="report_print"),
    path("<uuid:uid>/report/agency/", report_views.agency_print, name="agency_print"),
    path(
        "<uuid:uid>/report/power-log/",
        report_views.power_log_print,
        name="power_log_print",
    ),
    path("<uuid:uid>/report/text/", report_views.report_text, name="report_text"),
    path(
        "<uuid:uid>/report/package/", report_views.report_package, name="report_package"
    ),
    path("years/", year_views.years, name="years"),
    path("<uuid:uid>/contacts/", contact_views.contacts, name="contacts"),
    path("<uuid:uid>/why/", cause_views.causes, name="causes"),
    path("<uuid:uid>/why/results/", cause_views.causes_results, name="causes_results"),
    path("<uuid:uid>/why/add/", cause_views.causes_add, name="causes_add"),
    path(
        "<uuid:uid>/shortfalls/add/",
        shortfall_views.shortfall_add,
        name="shortfall_add",
    ),
    path(
        "<uuid:uid>/shortfalls/merge/",
        shortfall_views.shortfall_merge,
        name="shortfall_merge",
    ),
    path(
        "<uuid:uid>/shortfalls/<uuid:pk>/back/",
        shortfall_views.shortfall_back,
        name="shortfall_back",
    ),
    path("<uuid:uid>/photos/<uuid:photo_uid>/", shortfall_views.photo, name="photo"),
    path(
        "<uuid:uid>/photos/<uuid:photo_uid>/delete/",
        shortfall_views.photo_delete,
        name="photo_delete",
    ),
    path(
        "<uuid:uid>/shortfalls/<str:key>/photo/",
        shortfall_views.photo_add,
        name="photo_add",
    ),
    path(
        "<uuid:uid>/shortfalls/<str:key>/edit/",
        shortfall_views.shortfall_edit,
        name="shortfall_edit",
    ),
    path(
        "<uuid:uid>/shortfalls/<str:key>/split/",
        shortfall_views.shortfall_split,
        name="shortfall_split",
    ),
    path(
        "<uuid:uid>/shortfalls/<str:key>/drop/",
        shortfall_views.shortfall_drop,
        name="shortfall_drop",
    ),
]
