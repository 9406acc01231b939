"""Addresses of the clearance record and of the log; those of the station are found with it."""

from django.urls import path

from jetwind.apps.approvals import approve_views, log_views, rule_views
from jetwind.apps.approvals.stations.sign_off import clearance, package

urlpatterns = [
    path("mailings/<int:mailing_id>/clearance.json", clearance, name="clearance"),
    path("mailings/<int:mailing_id>/r<int:number>/approve/", approve_views.approve, name="approve"),
    path("mailings/<int:mailing_id>/package.zip", package, name="package"),
    path("settings/sign-off/", rule_views.rules, name="sign-off-rules"),
    path("settings/sign-off/<slug:kind_of_message>/", rule_views.rule, name="sign-off-rule"),
    path("settings/key.pem", rule_views.public_key, name="public-key"),
    path("settings/stand-ins/<int:stand_in_id>/end/", rule_views.end_stand_in, name="end-stand-in"),
    path("log/", log_views.log, name="log"),
    path("log.csv", log_views.as_csv, name="log-csv"),
    path("log.jsonl", log_views.as_json_lines, name="log-json-lines"),
]
