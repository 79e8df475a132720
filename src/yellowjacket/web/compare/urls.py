"""Routes of comparing."""

from django.urls import path

from yellowjacket.web.compare import views

app_name = "compare"
urlpatterns = [path("", views.page, name="page")]
