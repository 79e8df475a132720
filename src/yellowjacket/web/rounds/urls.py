"""Routes of blind rounds: their addresses hold tokens that tell nothing."""

from django.urls import path

from yellowjacket.web.rounds import views

app_name = "rounds"
urlpatterns = [
    path("sittings/<id:sitting_id>/look/blind/", views.begin, name="begin"),
    path("sittings/<id:sitting_id>/look/blind/<id:round_id>/", views.result, name="result"),
    path("sittings/<id:sitting_id>/look/blind/<id:round_id>/profile/", views.profile, name="profile"),
    path("rounds/<str:token>/", views.page, name="page"),
    path("rounds/<str:token>/answer/", views.answer, name="answer"),
    path("rounds/<str:token>/back/", views.back, name="back"),
    path("rounds/<str:token>/<str:trial>.png", views.picture, name="picture"),
    path("rounds/<str:token>/<str:trial>/<str:side>.png", views.picture, name="side"),
]
