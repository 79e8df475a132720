"""Routes of the night planner."""

from django.urls import path

from yellowjacket.web.night import views

app_name = "night"
urlpatterns = [
    path("", views.page, name="page"),
    path("schedule/", views.schedule, name="schedule"),
    path("night.ics", views.calendar, name="ics"),
    path("print/", views.printed, name="print"),
]
