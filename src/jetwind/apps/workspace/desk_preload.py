"""The application, loaded once by the process that helpers are forked from; without Django's settings there is nothing to load."""

from __future__ import annotations

import os

import django
from django.apps import apps

if os.environ.get("DJANGO_SETTINGS_MODULE") and not apps.ready:
    django.setup()
    from django.urls import get_resolver

    # Views and what they import are loaded with the addresses.
    _ = get_resolver().url_patterns
