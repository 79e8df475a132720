"""Routes of lanes."""

from django.urls import path

from yellowjacket.web.lanes import views

app_name = "lanes"
urlpatterns = [
    path("", views.page, name="page"),
    path("clear/", views.clear, name="clear"),
    path("new/", views.new, name="new"),
    path("corrections.csv", views.corrections, name="corrections"),
    path("frames.zip", views.frames, name="frames"),
    path("<id:lane_id>/add/", views.add, name="add"),
    path("<id:lane_id>/assign/", views.assign, name="assign"),
    path("<id:lane_id>/remove/", views.remove, name="remove"),
]
