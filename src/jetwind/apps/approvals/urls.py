"""The address of the clearance record; those of the station are found with it."""

from django.urls import path

from jetwind.apps.approvals.stations.sign_off import clearance

urlpatterns = [path("mailings/<int:mailing_id>/clearance.json", clearance, name="clearance")]
