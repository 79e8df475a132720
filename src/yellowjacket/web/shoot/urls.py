"""Routes of the shooting page."""

from django.urls import path

from yellowjacket.web.shoot import views

app_name = "shoot"
urlpatterns = [
    path("", views.page, name="page"),
    path("simulate/", views.simulate, name="simulate"),
    path("folder/", views.folder, name="folder"),
    path("upload/", views.upload, name="upload"),
    path("problems/clear/", views.clear_problems, name="clear-problems"),
]
