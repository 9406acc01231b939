"""Addresses of intake."""

from django.urls import path

from jetwind.apps.intake import views

urlpatterns = [
    path("take-in/", views.take_in, name="take-in"),
    path("paste/", views.paste, name="paste"),
    path("mailings/<int:mailing_id>/", views.newest, name="newest"),
    path("mailings/<int:mailing_id>/revisions/", views.add_revision, name="add-revision"),
    path("mailings/<int:mailing_id>/details/", views.details, name="details"),
    path("mailings/<int:mailing_id>/envelope/", views.envelope, name="change-envelope"),
    path("mailings/<int:mailing_id>/syntax/", views.syntax, name="set-syntax"),
    path("mailings/<int:mailing_id>/copy/", views.copy, name="copy"),
]
