"""Routes of tolerance profiles."""

from django.urls import path

from yellowjacket.web.tolerance import views

app_name = "tolerance"
urlpatterns = [
    path("", views.page, name="page"),
    path("take-in/", views.take_in, name="take-in"),
    path("<int:profile_id>.json", views.as_json, name="json"),
    path("<int:profile_id>/in-force/", views.put_in_force, name="in-force"),
]
