"""Routes of the master-dark library."""

from django.urls import path

from yellowjacket.web.darks import views

app_name = "darks"
urlpatterns = [
    path("", views.page, name="page"),
    path("make/<int:sitting_id>/", views.make, name="make"),
    path("find/", views.find, name="find"),
    path("frames/<int:frame_id>/", views.fitting, name="fitting"),
    path("<int:master_id>/remove/", views.remove, name="remove"),
    path("<int:master_id>/master.fits", views.master_fits, name="fits"),
    path("<int:master_id>/frames/<int:frame_id>/", views.compare, name="compare"),
    path("<int:master_id>/frames/<int:frame_id>/<str:what>-<int:x>,<int:y>.png", views.crop, name="crop"),
    path("<int:master_id>/frames/<int:frame_id>/calibrated.fits", views.calibrated_fits, name="calibrated-fits"),
    path("<int:master_id>/frames/<int:frame_id>/calibrated.dng", views.calibrated_dng, name="calibrated-dng"),
]
