"""Routes of the record."""

from django.urls import path

from yellowjacket.web.record import views

app_name = "record"
urlpatterns = [
    path("", views.page, name="page"),
    path("decide/", views.decide, name="decide"),
    path("decide-other/", views.decide_other, name="decide-other"),
    path("accept/", views.accept, name="accept"),
    path("accept-others/", views.accept_others, name="accept-others"),
    path("sign/", views.sign, name="sign"),
    path("amend/", views.amend, name="amend"),
    path("report.<str:kind>", views.report, name="report"),
    path("card.<str:kind>", views.card, name="card"),
    path("remember/", views.remember, name="remember"),
    path("history/", views.history, name="history"),
    path("print/", views.printed, name="print"),
    path("readings.csv", views.readings_csv, name="csv"),
    path("sitting.json", views.sitting_json, name="json"),
]
