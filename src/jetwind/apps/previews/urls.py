"""Addresses of renders."""

from django.urls import path

from jetwind.apps.previews import comparing
from jetwind.apps.previews.stations import appearance
from jetwind.apps.review.station_page import OF_A_REVISION as _REVISION

urlpatterns = [
    path(f"{_REVISION}appearance/compare/", comparing.compare, name="compare-renders"),
    path(f"{_REVISION}appearance/sheet.png", comparing.sheet, {"form": "png"}, name="render-sheet-png"),
    path(f"{_REVISION}appearance/sheet.pdf", comparing.sheet, {"form": "pdf"}, name="render-sheet-pdf"),
    path("renders/<int:render_id>.jpg", appearance.picture, name="render-picture"),
    path("renders/<int:left_id>-<int:right_id>.jpg", comparing.difference_map, name="difference-map"),
]
