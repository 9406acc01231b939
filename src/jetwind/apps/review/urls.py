"""Addresses of the Walkaround."""

from django.urls import path

from jetwind.apps.review import picture_views, sender_views, views

_REVISION = "mailings/<int:mailing_id>/r<int:number>/"

urlpatterns = [
    path("spam-reasons/", views.spam_reasons, name="spam-weights"),
    path(f"{_REVISION}progress/", views.progress, name="checks-progress"),
    path(f"{_REVISION}recheck/", views.recheck, name="recheck"),
    path(f"{_REVISION}send-back/", views.send_back, name="send-back"),
    path("mailings/<int:mailing_id>/compare/", views.comparison, name="compare"),
    path(f"{_REVISION}brief/", views.brief, name="brief"),
    path(f"{_REVISION}learn-word/", views.learn_word, name="learn-word"),
    path(f"{_REVISION}lighter-pictures.zip", picture_views.lighter_pictures, name="lighter-pictures"),
    path(f"{_REVISION}lighter-pictures/<str:fingerprint>/<str:side>.png", picture_views.look_at_picture, name="look-at-picture"),
    path(f"{_REVISION}lighter-files/<str:picture>/", picture_views.make_lighter_files, name="make-lighter-files"),
    path(f"{_REVISION}lighter-files/<str:picture>/choose/", picture_views.choose_file, name="choose-file"),
    path(f"{_REVISION}lighter-files/<str:picture>/progress/", picture_views.lighter_files_progress, name="lighter-files-progress"),
    path(f"{_REVISION}lighter-files/<int:file_id>/<str:side>.png", picture_views.look_at_file, name="look-at-file"),
    path(f"{_REVISION}lighter-pictures/", picture_views.put_lighter_in, name="put-lighter-in"),
    path(f"{_REVISION}picture-words/<str:picture>/", picture_views.enter_words, name="enter-words"),
    path(f"{_REVISION}plain-text-afresh/", views.plain_text_afresh, name="plain-text-afresh"),
    path(f"{_REVISION}sender/", sender_views.sender, name="sender"),
    path(f"{_REVISION}sender/ask/", sender_views.ask, name="ask-sender"),
    path(f"{_REVISION}report.<slug:form>", views.report, name="report"),
    path(f"{_REVISION}excuse/<slug:fingerprint>/", views.excuse, name="excuse"),
    path(f"{_REVISION}<slug:slug>/look/", views.look, name="look"),
    path(f"{_REVISION}<slug:slug>/", views.station, name="station"),
]
