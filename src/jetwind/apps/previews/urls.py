"""Addresses of renders."""

from django.urls import path

from jetwind.apps.previews import views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/"

urlpatterns = [
    path(f"{_REVISION}appearance/", views.appearance, name="appearance"),
    path(f"{_REVISION}renders/progress/", views.progress, name="renders-progress"),
    path(f"{_REVISION}renders/steer/", views.steer, name="renders-steer"),
    path("renders/<int:render_id>.jpg", views.picture, name="render-picture"),
]
