"""Addresses of test sends and the Mailroom."""

from django.urls import path

from jetwind.apps.proofs import mail_server_views, views

urlpatterns = [
    path("test-copies/<int:copy_id>/decide/", views.decide_copy, name="decide-copy"),
    path("test-sends/<int:send_id>/decide/", views.decide_send, name="decide-send"),
    path("mailroom/", views.mailroom, name="mailroom"),
    path("mailroom/<int:arrival_id>/", views.arrival, name="arrival"),
    path("mailroom/<int:arrival_id>/html/", views.arrival_html, name="arrival-html"),
    path("settings/test-lists/", views.test_lists, name="test-lists"),
    path("settings/test-lists/add/", views.add_list, name="add-test-list"),
    path("settings/test-lists/<int:list_id>/add/", views.add_address, name="add-test-address"),
    path("settings/mail-servers/", mail_server_views.mail_servers, name="mail-servers"),
    path("settings/mail-servers/new/", mail_server_views.mail_server, name="new-mail-server"),
    path("settings/mail-servers/choose/", mail_server_views.choose, name="choose-mail-server"),
    path("settings/mail-servers/<int:server_id>/", mail_server_views.mail_server, name="mail-server"),
    path("settings/mail-servers/<int:server_id>/try/", mail_server_views.ask_for_connection_test, name="try-mail-server"),
    path("settings/test-addresses/<int:address_id>/remove/", views.remove_address, name="remove-test-address"),
]
