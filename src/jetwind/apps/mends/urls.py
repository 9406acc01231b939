"""Addresses of mending."""

from django.urls import path

from jetwind.apps.mends import views
from jetwind.apps.review.station_page import OF_A_REVISION

urlpatterns = [
    path("sets/<int:set_id>/mend/", views.mend_set, name="mend-in-set"),
    path("sets/<int:set_id>/mend/progress/", views.mend_set_progress, name="mend-in-set-progress"),
    path(f"{OF_A_REVISION}mends/", views.mends, name="mends"),
    path(f"{OF_A_REVISION}mends/look-for/", views.look_for, name="look-for-mends"),
    path(f"{OF_A_REVISION}mends/progress/", views.progress, name="mends-progress"),
    path(f"{OF_A_REVISION}mends/sums/", views.sums, name="mends-sums"),
    path(f"{OF_A_REVISION}mends/renders/<slug:which>/<slug:profile>/", views.mended_render, name="mended-render"),
    path(f"{OF_A_REVISION}mends/as-<slug:form>/", views.as_file, name="mends-file"),
]
