"""Addresses of sign-off and release."""

from django.urls import path

from jetwind.apps.approvals import views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/"

urlpatterns = [
    path(f"{_REVISION}sign-off/", views.station, name="sign-off"),
    path(f"{_REVISION}sign-off/sign/", views.sign, name="sign"),
    path(f"{_REVISION}sign-off/release/", views.release, name="release"),
    path("mailings/<int:mailing_id>/clearance.json", views.clearance, name="clearance"),
]
