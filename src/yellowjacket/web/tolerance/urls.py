"""Routes of tolerance profiles."""

from django.urls import path

from yellowjacket.web.tolerance import views

app_name = "tolerance"
urlpatterns = [
    path("", views.page, name="page"),
    path("seen/", views.as_seen, name="seen"),
    path("seen/places/", views.places, name="places"),
    path("take-in/", views.take_in, name="take-in"),
    path("<id:profile_id>.json", views.as_json, name="json"),
    path("<id:profile_id>/in-force/", views.put_in_force, name="in-force"),
]
