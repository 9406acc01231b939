"""Addresses of links."""

from django.urls import path

from jetwind.apps.links import views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/links/"

urlpatterns = [
    path(f"{_REVISION}steer/", views.steer, name="links-steer"),
    path(f"{_REVISION}links.<str:form>", views.file, name="links-file"),
    path("landings/<int:answer_id>/<str:width>.jpg", views.landing, name="landing"),
    path("settings/wire/", views.wire, name="wire"),
]
