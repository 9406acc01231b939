"""Addresses of test sends and the Mailroom."""

from django.urls import path

from jetwind.apps.proofs import views

urlpatterns = [
    path("test-copies/<int:copy_id>/decide/", views.decide_copy, name="decide-copy"),
    path("mailroom/", views.mailroom, name="mailroom"),
    path("mailroom/<int:arrival_id>/", views.arrival, name="arrival"),
    path("mailroom/<int:arrival_id>/html/", views.arrival_html, name="arrival-html"),
    path("settings/test-lists/", views.test_lists, name="test-lists"),
    path("settings/test-lists/add/", views.add_list, name="add-test-list"),
    path("settings/test-lists/<int:list_id>/add/", views.add_address, name="add-test-address"),
    path("settings/test-addresses/<int:address_id>/remove/", views.remove_address, name="remove-test-address"),
]
