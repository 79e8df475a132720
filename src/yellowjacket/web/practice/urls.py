"""Routes of practice."""

from django.urls import path

from yellowjacket.web.practice import views

app_name = "practice"
urlpatterns = [path("", views.page, name="page")]
