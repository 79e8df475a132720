"""Routes of signing in, phones and the trail."""

from django.urls import path

from yellowjacket.web.people import views

app_name = "people"
urlpatterns = [
    path("people/", views.page, name="page"),
    path("people/sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("people/sign-out/", views.SignOut.as_view(), name="sign-out"),
    path("people/password/", views.Password.as_view(), name="password"),
    path("people/phones/<id:phone_id>/end/", views.end_phone, name="end-phone"),
    path("sittings/<id:sitting_id>/phone/", views.pair, name="pair"),
    path("phone/", views.phone, name="phone"),
]
