"""Addresses of the house."""

from django.urls import path

from jetwind.apps.workspace import views

urlpatterns = [
    path("readers/", views.readers, name="readers"),
    path("readers/new/", views.reader, name="new-reader"),
    path("readers/<int:reader_id>/", views.reader, name="reader"),
    path("settings/", views.settings, name="settings"),
    path("settings/audience/", views.audience, name="audience"),
    path("settings/checks/", views.checks, name="checks"),
]
