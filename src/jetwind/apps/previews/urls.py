"""Addresses of renders."""

from django.urls import path

from jetwind.apps.previews import comparing, views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/"

urlpatterns = [
    path(f"{_REVISION}access/", views.access, name="access"),
    path(f"{_REVISION}footer/", views.footer, name="footer"),
    path(f"{_REVISION}appearance/", views.appearance, name="appearance"),
    path(f"{_REVISION}appearance/compare/", comparing.compare, name="compare-renders"),
    path(f"{_REVISION}appearance/sheet.png", comparing.sheet, {"form": "png"}, name="render-sheet-png"),
    path(f"{_REVISION}appearance/sheet.pdf", comparing.sheet, {"form": "pdf"}, name="render-sheet-pdf"),
    path(f"{_REVISION}renders/progress/", views.progress, name="renders-progress"),
    path(f"{_REVISION}renders/steer/", views.steer, name="renders-steer"),
    path(f"{_REVISION}renders/mark/", views.mark, name="mark"),
    path("renders/<int:render_id>.jpg", views.picture, name="render-picture"),
    path("renders/<int:left_id>-<int:right_id>.jpg", comparing.difference_map, name="difference-map"),
]
