"""URLs of the guide."""

from django.urls import path

from . import views

app_name = "guide"
urlpatterns = [
    path("", views.contents, name="contents"),
    path("<slug:slug>/", views.page, name="page"),
]
