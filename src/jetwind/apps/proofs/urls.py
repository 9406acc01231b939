"""Addresses of test sends and the Mailroom."""

from django.urls import path

from jetwind.apps.proofs import mail_server_views, reply_views, screenshot_views, test_list_views, views, way_out_views

urlpatterns = [
    path("test-copies/<int:copy_id>/decide/", views.decide_copy, name="decide-copy"),
    path("test-sends/<int:send_id>/decide/", views.decide_send, name="decide-send"),
    path("reply/<str:token>/", reply_views.reply, name="reply"),
    path("reply/<str:token>/render/", reply_views.reply_render, name="reply-render"),
    path("reply-photos/<int:photo_id>/", reply_views.reply_photo, name="reply-photo"),
    path("reply-links/<int:link_id>/withdraw/", views.withdraw_link, name="withdraw-reply-link"),
    path("way-out/<str:token>/<str:place>/", way_out_views.way_out, name="way-out"),
    path("mailroom/", views.mailroom, name="mailroom"),
    path("mailroom/<int:arrival_id>/", views.arrival, name="arrival"),
    path("mailroom/<int:arrival_id>/render/", views.render_arrival, name="render-arrival"),
    path("mailroom/<int:arrival_id>/progress/", views.arrival_progress, name="arrival-progress"),
    path("mailroom/<int:arrival_id>/<slug:which>/<slug:profile>.jpg", views.arrival_render, name="arrival-render"),
    path("screenshots/<int:screenshot_id>/", screenshot_views.screenshot, name="screenshot"),
    path("screenshots/<int:screenshot_id>/<slug:which>.jpg", screenshot_views.picture, name="screenshot-picture"),
    path("mailroom/<int:arrival_id>/html/", views.arrival_html, name="arrival-html"),
    path("settings/test-lists/", test_list_views.test_lists, name="test-lists"),
    path("settings/test-lists/add/", test_list_views.add_list, name="add-test-list"),
    path("settings/test-lists/<int:list_id>/add/", test_list_views.add_person, name="add-test-address"),
    path("settings/test-lists/<int:list_id>/usual/", test_list_views.make_usual, name="make-test-list-usual"),
    path("settings/test-lists/<int:list_id>/take-in/", test_list_views.take_in, name="take-in-people"),
    path("settings/test-lists/<int:list_id>/save/", test_list_views.save, name="save-test-list"),
    path("settings/test-addresses/<int:address_id>/", test_list_views.person, name="test-person"),
    path("settings/mail-servers/", mail_server_views.mail_servers, name="mail-servers"),
    path("settings/mail-servers/new/", mail_server_views.mail_server, name="new-mail-server"),
    path("settings/mail-servers/choose/", mail_server_views.choose, name="choose-mail-server"),
    path("settings/mail-servers/<int:server_id>/", mail_server_views.mail_server, name="mail-server"),
    path("settings/mail-servers/<int:server_id>/try/", mail_server_views.ask_for_connection_test, name="try-mail-server"),
    path("settings/test-addresses/<int:address_id>/remove/", test_list_views.remove_address, name="remove-test-address"),
]
