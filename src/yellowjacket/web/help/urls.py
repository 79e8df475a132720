"""Addresses of the book."""

from django.urls import path

from yellowjacket.web.help import installation, views

app_name = "help"
urlpatterns = [
    path("help/", views.page, name="contents"),
    path("help/<slug:key>/", views.page, name="page"),
    path("help/<path:name>", views.file, name="file"),
    path("settings/", installation.page, name="settings"),
    path("settings/look/", installation.look, name="look"),
]
