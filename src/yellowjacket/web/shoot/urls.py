"""Routes of the shooting page."""

from django.urls import path

from yellowjacket.web.shoot import views

app_name = "shoot"
urlpatterns = [
    path("", views.page, name="page"),
    path("live/", views.live, name="live"),
    path("simulate/", views.simulate, name="simulate"),
    path("taken/", views.taken, name="taken"),
    path("skip/", views.skip, name="skip"),
    path("undo/", views.undo, name="undo"),
    path("accept/", views.accept, name="accept"),
    path("stopped/", views.stopped, name="stopped"),
    path("note/", views.note, name="note"),
    path("folder/", views.folder, name="folder"),
    path("upload/", views.upload, name="upload"),
    path("watch/", views.watch, name="watch"),
    path("problems/clear/", views.clear_problems, name="clear-problems"),
]
