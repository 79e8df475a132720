"""Routes of the checking page."""

from django.urls import path

from yellowjacket.web.check import views

app_name = "check"
urlpatterns = [
    path("", views.page, name="page"),
    path("rung/", views.rung, name="rung"),
    path("frame/<id:frame_id>/", views.frame, name="frame"),
    path("problem/<id:problem_id>/", views.problem, name="problem"),
    path("spot/<id:spot_id>/", views.spot, name="spot"),
    path("rung/<id:rung_id>/", views.rung_remedy, name="rung-remedy"),
    path("aperture/", views.aperture, name="aperture"),
    path("gather/", views.gather, name="gather"),
    path("name-body/", views.name_body, name="name-body"),
    path("undo/", views.undo, name="undo"),
]
