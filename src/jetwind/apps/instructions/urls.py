"""Addresses of sending back and of instructions."""

from django.urls import path

from jetwind.apps.instructions import views
from jetwind.apps.review.station_page import OF_A_REVISION

urlpatterns = [
    path(f"{OF_A_REVISION}send-back/", views.send_back, name="send-back"),
    path("instructions/<int:sending_back_id>/", views.instructions, name="instructions"),
    path("instructions/<int:sending_back_id>/as.<slug:form>", views.as_file, name="instructions-file"),
    path("instructions/<int:instruction_id>/tick/", views.tick, name="tick"),
    path("instructions/<int:instruction_id>/place.png", views.picture, name="instruction-picture"),
]
