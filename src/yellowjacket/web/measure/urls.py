"""Routes of the measuring page."""

from django.urls import path

from yellowjacket.web.measure import views

app_name = "measure"
urlpatterns = [
    path("", views.page, name="page"),
    path("foot/", views.foot, name="foot"),
    path("transfer/", views.transfer, name="transfer"),
    path("start/", views.start, name="start"),
    path("propose/", views.propose, name="propose"),
    path("patch/", views.patch, name="patch"),
]
