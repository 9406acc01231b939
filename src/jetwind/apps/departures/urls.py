"""Addresses of the home list and of calendars."""

from django.urls import path

from jetwind.apps.departures import calendar_views, views

urlpatterns = [
    path("", views.home, name="departures"),
    path("departures/bulk/", views.bulk, name="bulk"),
    path("views/keep/", views.keep_view, name="keep-view"),
    path("views/<int:view_id>/remove/", views.drop_view, name="drop-view"),
    path("calendar/", calendar_views.calendar, name="calendar"),
    path("calendar/set/", calendar_views.set_calendar, name="set-calendar"),
    path("calendar/<str:token>.ics", calendar_views.feed, name="calendar-feed"),
    path("mailings/<int:mailing_id>/departure.ics", calendar_views.of_message, name="departure"),
]
