"""URLs of the Debrief."""

from django.urls import path

from . import views

app_name = "debrief"
urlpatterns = [
    path("", views.home, name="home"),
    path("<uuid:uid>/", views.event, name="event"),
]
