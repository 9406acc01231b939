"""Addresses of what waits."""

from django.urls import path

from jetwind.apps.notices import views

urlpatterns = [
    path("waiting/", views.waiting, name="waiting"),
    path("waiting/<int:notice_id>/", views.go_to, name="go-to-notice"),
    path("waiting/read/", views.read_all, name="read-all-notices"),
]
