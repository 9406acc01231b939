"""Addresses of the clearance record and of the log; those of the station are found with it."""

from django.urls import path

from jetwind.apps.approvals import log_views
from jetwind.apps.approvals.stations.sign_off import clearance

urlpatterns = [
    path("mailings/<int:mailing_id>/clearance.json", clearance, name="clearance"),
    path("log/", log_views.log, name="log"),
    path("log.csv", log_views.as_csv, name="log-csv"),
    path("log.jsonl", log_views.as_json_lines, name="log-json-lines"),
]
