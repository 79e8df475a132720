"""Routes of the measuring page."""

from django.urls import path

from yellowjacket.web.measure import views

app_name = "measure"
urlpatterns = [
    path("", views.page, name="page"),
    path("foot/", views.foot, name="foot"),
    path("transfer/", views.transfer, name="transfer"),
    path("start/", views.start, name="start"),
    path("propose/", views.propose, name="propose"),
    path("patch/", views.patch, name="patch"),
    path("patch/remove/", views.remove, name="remove"),
    path("patch/rename/", views.rename, name="rename"),
    path("grid/", views.grid, name="grid"),
    path("copy/", views.copy, name="copy"),
    path("line/", views.line, name="line"),
    path("picture/", views.picture, name="picture"),
    path("noise/<id:rung_id>/<str:what>.png", views.noise_picture, name="noise-picture"),
    path("codes/", views.codes, name="codes"),
]
