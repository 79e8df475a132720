"""Routes of uses."""

from django.urls import path

from yellowjacket.web.uses import views

app_name = "uses"
urlpatterns = [path("", views.page, name="page")]
