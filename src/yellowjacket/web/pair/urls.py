"""Routes of pairs."""

from django.urls import path

from yellowjacket.web.pair import views

app_name = "pair"
urlpatterns = [
    path("", views.page, name="page"),
    path("verdict/", views.verdict, name="verdict"),
    path("apart/", views.apart, name="apart"),
]
