"""Addresses of intake."""

from django.urls import path

from jetwind.apps.intake import many_views, views

urlpatterns = [
    path("take-in/", views.take_in, name="take-in"),
    path("take-in/many/", many_views.bring, name="take-in-many"),
    path("take-in/many/<int:batch_id>/", many_views.batch, name="batch"),
    path("take-in/many/<int:batch_id>/go-on/", many_views.go_on, name="go-on-with-batch"),
    path("paste/", views.paste, name="paste"),
    path("mailings/<int:mailing_id>/", views.newest, name="newest"),
    path("mailings/<int:mailing_id>/revisions/", views.add_revision, name="add-revision"),
    path("mailings/<int:mailing_id>/details/", views.details, name="details"),
    path("mailings/<int:mailing_id>/envelope/", views.envelope, name="change-envelope"),
    path("mailings/<int:mailing_id>/syntax/", views.syntax, name="set-syntax"),
    path("mailings/<int:mailing_id>/copy/", views.copy, name="copy"),
]
