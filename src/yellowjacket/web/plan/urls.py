"""Routes of the plan."""

from django.urls import path

from yellowjacket.web.plan import files, views

app_name = "plan"
urlpatterns = [
    path("sittings/new/", views.new_sitting, name="new"),
    path("sittings/new/stave/", views.preview, name="preview"),
    path("sittings/<id:sitting_id>/plan/", views.page, name="page"),
    path("sittings/<id:sitting_id>/plan/add/", views.add_ladder, name="add"),
    path("sittings/<id:sitting_id>/plan/change/", views.change_ladder, name="change"),
    path("sittings/<id:sitting_id>/plan/remove/", views.remove_ladder, name="remove"),
    path("sittings/<id:sitting_id>/plan/dissolve/", views.dissolve, name="dissolve"),
    path("sittings/<id:sitting_id>/plan/items/", views.add_item, name="add-item"),
    path("sittings/<id:sitting_id>/plan/items/<id:item_id>/", views.tick, name="tick"),
    path("sittings/<id:sitting_id>/plan/shots/", views.shot_list, name="shot-list"),
    path("sittings/<id:sitting_id>/plan/cards/", views.rung_cards, name="cards"),
    path("sittings/<id:sitting_id>/plan/shots.csv", files.shots_csv, name="csv"),
    path("sittings/<id:sitting_id>/plan/schedule.ics", files.schedule_ics, name="ics"),
    path("sittings/<id:sitting_id>/plan/plan.json", files.plan_json, name="json"),
    path("sittings/<id:sitting_id>/plan/template/", files.save_template, name="save-template"),
    path("sittings/<id:sitting_id>/plan/repeat/", files.repeat, name="repeat"),
    path("sittings/from-plan/", files.from_plan, name="from-plan"),
]
