"""Root of all URLs."""

from django.urls import include, path

from hollow_kettle.api.urls import api_patterns
from hollow_kettle.guide.views import home
from hollow_kettle.shelf.browse.views import label

urlpatterns = [
    path("", home, name="home"),
    # A label's code holds its path in capitals, which makes the code smaller.
    path("t/<slug:token>/", label, name="label"),
    path("T/<slug:token>/", label, name="label_in_capitals"),
    path("", include("hollow_kettle.people.urls")),
    path("", include("hollow_kettle.upkeep.urls")),
    path("people/", include("hollow_kettle.api.urls")),
    api_patterns,
    path("guide/", include("hollow_kettle.guide.urls")),
    path("shelf/", include("hollow_kettle.shelf.urls")),
    path("plan/", include("hollow_kettle.plan.urls")),
    path("field/", include("hollow_kettle.field.urls")),
    path("debrief/", include("hollow_kettle.debrief.urls")),
]
handler404 = "hollow_kettle.ui.views.not_found"
handler403 = "hollow_kettle.ui.views.not_allowed"
handler500 = "hollow_kettle.ui.views.broken"
