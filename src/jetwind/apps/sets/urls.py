"""Addresses of sets and of shared parts."""

from django.urls import path

from jetwind.apps.sets import views

urlpatterns = [
    path("sets/", views.sets, name="sets"),
    path("sets/parts/", views.parts, name="parts"),
    path("sets/<int:set_id>/", views.one_set, name="set"),
    path("sets/<int:set_id>/excuse/", views.excuse, name="excuse-in-set"),
]
