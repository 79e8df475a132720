"""Routes of advice."""

from django.urls import path

from yellowjacket.web.advice import views

app_name = "advice"
urlpatterns = [
    path("", views.page, name="page"),
    path("answer/", views.answer, name="answer"),
]
