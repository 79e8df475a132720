"""Routes of the master-dark library."""

from django.urls import path

from yellowjacket.web.darks import views

app_name = "darks"
urlpatterns = [
    path("", views.page, name="page"),
    path("make/<id:sitting_id>/", views.make, name="make"),
    path("find/", views.find, name="find"),
    path("frames/<id:frame_id>/", views.fitting, name="fitting"),
    path("<id:master_id>/remove/", views.remove, name="remove"),
    path("<id:master_id>/master.fits", views.master_fits, name="fits"),
    path("<id:master_id>/frames/<id:frame_id>/", views.compare, name="compare"),
    path("<id:master_id>/frames/<id:frame_id>/<str:what>-<id:x>,<id:y>.png", views.crop, name="crop"),
    path("<id:master_id>/frames/<id:frame_id>/calibrated.fits", views.calibrated_fits, name="calibrated-fits"),
    path("<id:master_id>/frames/<id:frame_id>/calibrated.dng", views.calibrated_dng, name="calibrated-dng"),
]
