"""Addresses of the Walkaround."""

from django.urls import path

from jetwind.apps.review import views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/"

urlpatterns = [
    path(f"{_REVISION}progress/", views.progress, name="checks-progress"),
    path(f"{_REVISION}recheck/", views.recheck, name="recheck"),
    path(f"{_REVISION}send-back/", views.send_back, name="send-back"),
    path(f"{_REVISION}findings.csv", views.findings_csv, name="findings-csv"),
    path(f"{_REVISION}excuse/<slug:fingerprint>/", views.excuse, name="excuse"),
    path(f"{_REVISION}<slug:slug>/look/", views.look, name="look"),
    path(f"{_REVISION}<slug:slug>/", views.station, name="station"),
]
