"""Routes of the jury."""

from django.urls import path

from yellowjacket.web.jury import views

app_name = "jury"
urlpatterns = [
    path("", views.page, name="page"),
    path("<str:token>/sheet.pdf", views.pdf, name="pdf"),
    path("<str:token>/sheet.svg", views.svg, name="svg"),
    path("<str:token>/marks/", views.marks, name="marks"),
]
