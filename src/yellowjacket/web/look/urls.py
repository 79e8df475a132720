"""Routes of the looking page."""

from django.urls import path

from yellowjacket.web.look import views

app_name = "look"
urlpatterns = [
    path("", views.page, name="page"),
    path("wall/", views.wall, name="wall"),
    path("spot/", views.keep_spot, name="spot"),
    path("spots/", views.spots, name="spots"),
    path("grade/", views.grade, name="grade"),
    path("mark/", views.mark, name="mark"),
    path("place/", views.place, name="place"),
    path("screen/", views.screen, name="screen"),
    path("person/", views.person, name="person"),
    path("people/", views.people, name="people"),
]
