"""Routes of comparing."""

from django.urls import path

from yellowjacket.web.compare import views

app_name = "compare"
urlpatterns = [
    path("", views.page, name="page"),
    path("foreign/", views.take_in, name="take-in"),
    path("foreign/<id:curve_id>/delete/", views.delete, name="delete"),
]
