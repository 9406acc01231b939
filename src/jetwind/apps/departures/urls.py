"""Addresses of the home list."""

from django.urls import path

from jetwind.apps.departures import views

urlpatterns = [path("", views.home, name="departures")]
