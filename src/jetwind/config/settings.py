"""Django settings. What differs from machine to machine comes from the environment; the launcher sets it."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, Literal

import dj_database_url
from csp.constants import NONE, SELF
from django.core.exceptions import ImproperlyConfigured

ROOT = Path(__file__).resolve().parents[3]
STATE = Path(os.environ.get("JETWIND_STATE", ROOT / ".jetwind"))


def _secret_key() -> str:
    """The key of this installation: from the environment, or a file that the launcher made.

    Raises:
        ImproperlyConfigured: there is none. A key that everybody knows would let anybody sign in.
    """
    kept = STATE / "secret-key"
    key = os.environ.get("JETWIND_SECRET_KEY") or (kept.read_text().strip() if kept.exists() else "")
    if not key:
        raise ImproperlyConfigured(f"There is no secret key: “./jetwind setup” makes one in {kept}, or JETWIND_SECRET_KEY gives it.")
    return key


SECRET_KEY = _secret_key()
DEBUG = os.environ.get("JETWIND_DEBUG") == "1"
#: Served over https behind a proxy; the launcher serves plain http on loopback.
HTTPS = os.environ.get("JETWIND_HTTPS") == "1"
#: The number of trusted proxies in front of the web server. The server believes that many entries at the end of X-Forwarded-For.
PROXIES = int(os.environ.get("JETWIND_PROXIES", "0"))
ALLOWED_HOSTS = os.environ.get("JETWIND_HOSTS", "127.0.0.1,localhost,[::1]").split(",")

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "whitenoise.runserver_nostatic",
    "django.contrib.staticfiles",
    "django.contrib.postgres",
    "django_htmx",
    "csp",
    "axes",
    "procrastinate.contrib.django",
    "jetwind.apps.ui",
    "jetwind.apps.audit",
    "jetwind.apps.blobs",
    "jetwind.apps.jobs",
    "jetwind.apps.accounts",
    "jetwind.apps.workspace",
    "jetwind.apps.intake",
    "jetwind.apps.notices",
    "jetwind.apps.comments",
    "jetwind.apps.review",
    "jetwind.apps.previews",
    "jetwind.apps.instructions",
    "jetwind.apps.proofs",
    "jetwind.apps.links",
    "jetwind.apps.approvals",
    "jetwind.apps.sets",
    "jetwind.apps.mends",
    "jetwind.apps.departures",
    "jetwind.apps.demo",
]

MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "jetwind.apps.ui.given.form_in_utf8",
    "jetwind.apps.ui.given.no_nul",
    "jetwind.apps.ui.given.kept_private",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "jetwind.apps.accounts.middleware.viewer_zone",
    "jetwind.apps.ui.refusal.refusals",
    "axes.middleware.AxesMiddleware",
]

AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AUTH_USER_MODEL = "accounts.User"
PASSWORD_RESET_TIMEOUT = 86_400
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
LOGIN_URL = "sign-in"
LOGIN_REDIRECT_URL = "departures"
LOGOUT_REDIRECT_URL = "sign-in"
AXES_FAILURE_LIMIT = 10
AXES_COOLOFF_TIME = 0.25
#: One name is watched wherever it is tried from; how much one place may try is counted by the sign-in page (accounts/services.py).
AXES_LOCKOUT_PARAMETERS = ["username"]
AXES_CLIENT_IP_CALLABLE = "jetwind.apps.accounts.services.place_of"
#: Who goes on trying a name that is locked does not keep its person out any longer.
AXES_RESET_COOL_OFF_ON_FAILURE_DURING_LOCKOUT = False
AXES_VERBOSE = False
#: It wants the address among the parameters; here names and places are counted apart, so that no place shuts out everybody behind it.
SILENCED_SYSTEM_CHECKS = ["axes.W006"]
AXES_LOCKOUT_CALLABLE = "jetwind.apps.accounts.views.locked_out"

ROOT_URLCONF = "jetwind.config.urls"
WSGI_APPLICATION = "jetwind.config.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "jetwind.apps.workspace.context.house",
            ],
            "builtins": ["jetwind.apps.ui.templatetags.jetwind"],
        },
    },
    {
        "BACKEND": "django.template.backends.jinja2.Jinja2",
        "APP_DIRS": True,
        "OPTIONS": {"environment": "jetwind.apps.ui.many.environment"},
    },
]

#: A worker that has not been heard of for so many seconds is dead, and its jobs are picked up again.
STALLED_AFTER_SECONDS = float(os.environ.get("JETWIND_STALLED_AFTER", "20"))
DATABASES = {
    "default": dj_database_url.config(default="postgres://jetwind@127.0.0.1:5432/jetwind", conn_max_age=None, conn_health_checks=True)
}
# A process that is paused in the middle of a transaction keeps its locks, and everybody else waits for it: PostgreSQL ends such a session.
_MOST_IDLE_MS = round(max(6 * STALLED_AFTER_SECONDS, 15) * 1000)
_options: dict[str, str] = DATABASES["default"].setdefault("OPTIONS", {})
# Queries of a page are short, and compiling such takes longer than it saves (PostgreSQL manual, “When to JIT?”, from memory).
_options["options"] = f"{_options.get('options', '')} -c idle_in_transaction_session_timeout={_MOST_IDLE_MS} -c jit=off".strip()
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

LANGUAGE_CODE = "en-gb"
TIME_ZONE = "UTC"
USE_TZ = True

STATIC_URL = "static/"
STATIC_ROOT = STATE / "static"
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage", "OPTIONS": {"location": STATE / "files"}},
    #: Raw messages and renders by SHA-256. Any Django storage can stand here, an S3-compatible one too.
    "blobs": {
        "BACKEND": "jetwind.apps.blobs.storage.WholeFiles",
        "OPTIONS": {
            "location": Path(os.environ.get("JETWIND_BLOBS", STATE / "blobs")),
            # Messages are for the people of the house, not for everybody on the machine.
            "file_permissions_mode": 0o600,
            "directory_permissions_mode": 0o700,
        },
    },
    "staticfiles": {"BACKEND": "whitenoise.storage.CompressedManifestStaticFilesStorage"},
}
WHITENOISE_KEEP_ONLY_HASHED_FILES = True

#: Room for a message of 30 MB and its form. The server refuses a larger request with a sentence and keeps the connection.
DATA_UPLOAD_MAX_MEMORY_SIZE = 32 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF, "'unsafe-inline'"],
        "img-src": [SELF, "data:"],
        "font-src": [SELF],
        "connect-src": [SELF],
        "frame-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
X_FRAME_OPTIONS = "DENY"
SECURE_REFERRER_POLICY = "same-origin"
SESSION_COOKIE_SAMESITE = "Lax"
if HTTPS:
    SECURE_SSL_REDIRECT = True
    SECURE_HSTS_SECONDS = 31_536_000
    SECURE_HSTS_INCLUDE_SUBDOMAINS = True
    SECURE_HSTS_PRELOAD = True
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
    SESSION_COOKIE_SECURE = True
    CSRF_COOKIE_SECURE = True

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"()": "jetwind.config.log.Line"}, "json": {"()": "jetwind.config.log.Json"}},
    "handlers": {
        "standard": {"class": "logging.StreamHandler", "formatter": "json" if os.environ.get("JETWIND_LOG") == "json" else "line"}
    },
    "root": {"handlers": ["standard"], "level": "WARNING"},
    "loggers": {"jetwind": {"level": "INFO"}},
}

#: Where test sends are handed over: the Mailroom stand-in unless somebody says otherwise.
HAS_MAILROOM = "JETWIND_SMTP_HOST" not in os.environ
TEST_SMTP_HOST = os.environ.get("JETWIND_SMTP_HOST", "127.0.0.1")
TEST_SMTP_PORT = int(os.environ.get("JETWIND_SMTP_PORT", "2525"))
#: Invitations and links for new passwords go out by the same server, where it is a real one.
EMAIL_HOST, EMAIL_PORT, EMAIL_TIMEOUT = TEST_SMTP_HOST, TEST_SMTP_PORT, 15
DEFAULT_FROM_EMAIL = os.environ.get("JETWIND_MAIL_FROM", "jetwind@localhost.invalid")
#: Helper processes are forked from one made for it: the threads of workers and web servers may hold locks (engines/bounded).
HELPERS_START: Literal["fork", "server", "here"] = "server"
#: The row that a worker has published of its machine; its helpers are told.
MACHINE = ""
#: Where pages of a message are made: in helpers of the web server, or, in tests, where they are asked for.
DESK: Literal["helpers", "here"] = "helpers"

#: Hosts inside this network that workspaces may name as ones to open, each with its port, by the administrator's word:
#: ``intranet.kiln.org:8080``; without a port, 80 and 443. All below a host is meant, too.
INWARD_HOSTS = frozenset(os.environ.get("JETWIND_INWARD_HOSTS", "").lower().replace(",", " ").split())
#: Prefixes of this network's own translators to IPv4 (RFC 6052): what they carry is judged by the IPv4 address.
TRANSLATIONS = tuple(os.environ.get("JETWIND_NAT64_PREFIXES", "").replace(",", " ").split())

#: Whether name records of the house's own domain are asked of the DNS; those of the practice field lie here.
ASKS_DNS = os.environ.get("JETWIND_ASKS_DNS", "yes") != "no"
#: Where the practice field says on which ports it listens; without it, its names are nobody's.
PRACTICE_DIRECTORY = os.environ.get("JETWIND_PRACTICE", "")
#: Other waiting times of the fetcher than its own, in seconds by their names in ``engines.fetch.Patience``.
FETCH_PATIENCE: dict[str, Any] = {}
