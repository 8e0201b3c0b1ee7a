"""URLs of sign-in and people."""

from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LogoutView
from django.urls import path

from . import second_views, views

app_name = "people"
urlpatterns = [
    path("sign-in/", login_not_required(views.SignIn.as_view()), name="sign_in"),
    path(
        "sign-in/code/",
        login_not_required(second_views.sign_in_code),
        name="sign_in_code",
    ),
    path("sign-out/", LogoutView.as_view(), name="sign_out"),
    path("signed-in/", views.signed_in, name="signed_in"),
    path("signed-in/end/", views.sign_out_elsewhere, name="sign_out_elsewhere"),
    path("password/", views.OwnPassword.as_view(), name="own_password"),
    path(
        "password/new/<uidb64>/<token>/",
        login_not_required(views.NewPassword.as_view()),
        name="new_password",
    ),
    path("join/", login_not_required(views.join_code), name="join"),
    path("join/<str:token>/", login_not_required(views.join_link), name="join_link"),
    path("people/", views.person_list, name="person_list"),
    path("people/add/", views.person_add, name="person_add"),
    path("people/<uuid:uid>/close/", views.person_close, name="person_close"),
    path("password/code/", second_views.second_factor, name="second_factor"),
    path("password/code/drop/", second_views.second_drop, name="second_drop"),
    path(
        "people/<uuid:uid>/code/drop/",
        second_views.person_second_drop,
        name="person_second_drop",
    ),
    path("people/<uuid:uid>/link/", views.person_link, name="person_link"),
    path("club/", views.club_edit, name="club_edit"),
]
