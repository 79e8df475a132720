"""Routes of lanes."""

from django.urls import path

from yellowjacket.web.lanes import views

app_name = "lanes"
urlpatterns = [
    path("", views.page, name="page"),
    path("new/", views.new, name="new"),
    path("corrections.csv", views.corrections, name="corrections"),
    path("frames.zip", views.frames, name="frames"),
    path("<int:lane_id>/add/", views.add, name="add"),
    path("<int:lane_id>/assign/", views.assign, name="assign"),
    path("<int:lane_id>/remove/", views.remove, name="remove"),
]
