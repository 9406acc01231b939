"""Addresses of the house."""

from django.urls import path

from jetwind.apps.workspace import people_views, reader_views, rulebook_views, syntax_views, views

urlpatterns = [
    path("readers/", reader_views.readers, name="readers"),
    path("readers/new/", reader_views.reader, name="new-reader"),
    path("readers/<int:reader_id>/", reader_views.reader, name="reader"),
    path("readers/awkward/", reader_views.add_awkward, name="awkward-readers"),
    path("readers/take-in/", reader_views.take_in, name="take-in-readers"),
    path("readers/preview/", reader_views.preview, name="preview-readers"),
    path("readers/save/", reader_views.save, name="save-readers"),
    path("settings/", views.settings, name="settings"),
    path("settings/domains/", views.own_domains, name="own-domains"),
    path("settings/audience/", views.audience, name="audience"),
    path("settings/checks/", views.checks, name="checks"),
    path("settings/syntaxes/", syntax_views.syntaxes, name="syntaxes"),
    path("settings/syntaxes/new/", syntax_views.syntax, name="new-syntax"),
    path("settings/syntaxes/try/", syntax_views.try_syntax, name="try-syntax"),
    path("settings/syntaxes/<int:syntax_id>/", syntax_views.syntax, name="syntax"),
    path("settings/rulebooks/", rulebook_views.rulebooks, name="rulebooks"),
    path("settings/rulebooks/new/", rulebook_views.rulebook, name="new-rulebook"),
    path("settings/rulebooks/<str:book_id>/", rulebook_views.rulebook, name="rulebook"),
    path("settings/sender/", rulebook_views.signing, name="signing"),
    path("begin/", people_views.begin, name="begin"),
    path("join/<str:token>/", people_views.join, name="join"),
    path("invitations/", people_views.invitations, name="invitations"),
    path("people/", people_views.people, name="people"),
    path("people/invite/", people_views.invite, name="invite"),
    path("people/invitations/<int:invitation_id>/withdraw/", people_views.withdraw, name="withdraw-invitation"),
    path("people/<int:membership_id>/change/", people_views.change, name="change-person"),
    path("workspaces/switch/", people_views.switch, name="switch-workspace"),
    path("workspaces/new/", people_views.found, name="new-workspace"),
]
