"""Routes of the looking page."""

from django.urls import path

from yellowjacket.web.look import views

app_name = "look"
urlpatterns = [
    path("", views.page, name="page"),
    path("wall/", views.wall, name="wall"),
    path("grade/", views.grade, name="grade"),
    path("mark/", views.mark, name="mark"),
    path("person/", views.person, name="person"),
]
