"""Routes of the desk and the register of bodies."""

from django.urls import path

from yellowjacket.web.desk import views

app_name = "desk"
urlpatterns = [
    path("search/", views.search, name="search"),
    path("", views.desk, name="page"),
    path("adopt/", views.adopt, name="adopt"),
    path("allow/", views.allow, name="allow"),
    path("try-out/", views.try_out, name="try-out"),
    path("sittings/<id:sitting_id>/delete/", views.delete_sitting, name="delete-sitting"),
    path("deleted/<slug:token>/", views.restore_sitting, name="restore-sitting"),
    path("bodies/<id:body_id>/delete/", views.delete_body, name="body-delete"),
    path("sittings/<id:sitting_id>/adopting/", views.adopting_page, name="adopting"),
    path("sittings/<id:sitting_id>/take-found/", views.take_found, name="take-found"),
    path("archive/", views.archive, name="archive"),
    path("archive/take-in/", views.take_in, name="take-in"),
    path("sittings/<id:sitting_id>/archive.zip", views.give, name="give"),
    path("sittings/<id:sitting_id>/frames.zip", views.plain, name="plain"),
    path("bodies/", views.bodies, name="bodies"),
    path("bodies/new/", views.edit_body, name="body-new"),
    path("bodies/simulated/", views.body_simulated, name="body-simulated"),
    path("bodies/from-frame/", views.body_from_frame, name="body-from-frame"),
    path("lenses/add/", views.add_lens, name="lens-add"),
    path("bodies/<id:body_id>/", views.edit_body, name="body"),
]
