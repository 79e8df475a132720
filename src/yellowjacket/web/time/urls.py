"""Routes of the Time page."""

from django.urls import path

from yellowjacket.web.time import files, views

app_name = "time"
urlpatterns = [
    path("", views.page, name="page"),
    path("answers/", views.answers, name="answers"),
    path("map/", views.map_panel, name="map"),
    path("points.json", views.points, name="points"),
    path("point/", views.point, name="point"),
    path("repair/<str:what>-<id:x>,<id:y>.png", views.repair, name="repair"),
    path("light-points/", views.light_points, name="light-points"),
    path("start/", views.start, name="start"),
    path("warmth/", views.warmth, name="warmth"),
    path("warmth/csv/", views.warmth_csv, name="warmth-csv"),
    path("before/", views.before, name="before"),
    path("plan/", views.plan_test, name="plan-test"),
    path("pixels.csv", files.pixels_csv, name="pixels-csv"),
    path("pixels.fits", files.pixels_fits, name="pixels-fits"),
    path("defects.txt", files.defects, name="defects"),
    path("mask.fits", files.mask_fits, name="mask-fits"),
    path("mask.png", files.mask_png, name="mask-png"),
]
