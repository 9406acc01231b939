"""Addresses of the Walkaround."""

from django.urls import path

from jetwind.apps.review import comment_views, views
from jetwind.apps.review.station_page import OF_A_REVISION as _REVISION
from jetwind.apps.review.station_page import routes

urlpatterns = [
    path("spam-reasons/", views.spam_reasons, name="spam-weights"),
    path(f"{_REVISION}progress/", views.progress, name="checks-progress"),
    path(f"{_REVISION}recheck/", views.recheck, name="recheck"),
    path("mailings/<int:mailing_id>/compare/", views.comparison, name="compare"),
    path(f"{_REVISION}report.<slug:form>", views.report, name="report"),
    path(f"{_REVISION}excuse/<slug:fingerprint>/", views.excuse, name="excuse"),
    path(f"{_REVISION}<slug:slug>/say/", comment_views.say, name="say"),
    path(f"{_REVISION}comments/", comment_views.comments, name="comments"),
    path("comments/<int:thread_id>/", comment_views.thread, name="thread"),
    path(f"{_REVISION}<slug:slug>/look/", views.look, name="look"),
    *routes(),
]
