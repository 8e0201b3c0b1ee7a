"""URLs of the page of scripts, and those that scripts ask."""

from django.urls import include, path

from . import views
from .routes import VERSION, api

_asked, _name, _space = api.urls
for _one in _asked:  # a script has no session: its token is asked for instead
    vars(_one.callback)["login_required"] = False

app_name = "scripts"
urlpatterns = [
    path("scripts/", views.token_list, name="token_list"),
    path("scripts/<int:pk>/end/", views.token_end, name="token_end"),
]
api_patterns = path(f"api/{VERSION}/", include((_asked, _name), namespace=_space))
