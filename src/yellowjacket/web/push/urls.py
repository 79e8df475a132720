"""Routes of the pushing page."""

from django.urls import path

from yellowjacket.web.push import views

app_name = "push"
urlpatterns = [
    path("", views.page, name="page"),
    path("limits/", views.limits, name="limits"),
]
