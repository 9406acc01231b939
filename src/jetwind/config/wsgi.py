"""The WSGI application that gunicorn serves."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "jetwind.config.settings")
application = get_wsgi_application()

from jetwind.apps.workspace import desk  # noqa: E402 - the apps are there only now

desk.begin()
