"""Routes of the plan."""

from django.urls import path

from yellowjacket.web.plan import views

app_name = "plan"
urlpatterns = [
    path("sittings/new/", views.new_sitting, name="new"),
    path("sittings/new/stave/", views.preview, name="preview"),
    path("sittings/<int:sitting_id>/plan/", views.page, name="page"),
]
