"""Settings of the workshop. The data folder comes from the environment; everything else is fixed."""

import os
import secrets
from pathlib import Path

import platformdirs

PACKAGE = Path(__file__).resolve().parent


def _data_folder() -> Path:
    return Path(os.environ.get("NEMBRIT_DATA") or platformdirs.user_data_path("nembrit", appauthor=False))


DATA_FOLDER = _data_folder()
DATA_FOLDER.mkdir(parents=True, exist_ok=True)


def _secret_key() -> str:
    """Made once for each data folder, readable by its owner only."""
    path = DATA_FOLDER / "secret-key"
    if not path.exists() or len(path.read_bytes().strip()) < 32:  # one that was cut off when it was written counts as none
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(50))
    return path.read_text().strip()


SECRET_KEY = _secret_key()
DEBUG = False
LAN_HOSTS = [host for host in os.environ.get("NEMBRIT_LAN_HOSTS", "").split(",") if host]  # by `serve --lan`; else none comes in
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *LAN_HOSTS]
ROOT_URLCONF = "nembrit.web.urls"
ASGI_APPLICATION = "nembrit.web.asgi.application"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django_htmx",
    "django_tasks",
    "django_tasks_db",
    "nembrit.web.common",
    "nembrit.web.hangar",
    "nembrit.web.ground",
    "nembrit.web.flights",
    "nembrit.web.logs",
    "nembrit.web.intake",
    "nembrit.web.simulator",
    "nembrit.web.bench",
    "nembrit.web.packs",
    "nembrit.web.planning",
    "nembrit.web.sums",
    "nembrit.web.tunes",
    "nembrit.web.telemetry",
    "nembrit.web.archive",
]

MIDDLEWARE = [
    "nembrit.web.common.middleware.ContentSecurity",
    "django.middleware.security.SecurityMiddleware",
    "nembrit.web.common.middleware.StaticFiles",
    "nembrit.web.common.middleware.OneWorkshop",
    "nembrit.web.common.middleware.InvitedOnly",
    "nembrit.web.common.middleware.PatientSessions",
    "django.middleware.common.CommonMiddleware",
    "nembrit.web.common.middleware.TokenBeforeFiles",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "nembrit.web.common.middleware.OwnerOnLoopback",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "nembrit.web.common.middleware.SentencesForErrors",
    "nembrit.web.logs.sealed.SealedFlights",
]

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "nembrit.web.common.told.told_again",
            ],
            "builtins": [
                "nembrit.web.bench.templatetags.bench",
                "nembrit.web.common.templatetags.nembrit",
                "nembrit.web.flights.templatetags.cards",
                "django.templatetags.static",
            ],
        },
    }
]

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_FOLDER / "workshop.sqlite3",
        "CONN_MAX_AGE": None,
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            # only what needs no lock: how the file is laid out is settled once, by `common.database.lay_out`
            "init_command": "PRAGMA synchronous=FULL; PRAGMA mmap_size=268435456; PRAGMA cache_size=-20000; "
            "PRAGMA temp_store=MEMORY;",
        },
        "TEST": {"NAME": DATA_FOLDER / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_USER_MODEL = "common.User"

TASKS = {"default": {"BACKEND": os.environ.get("NEMBRIT_TASKS", "django_tasks_db.DatabaseBackend"), "QUEUES": []}}

LANGUAGE_CODE = "en-gb"
TIME_ZONE = "UTC"
USE_TZ = True
USE_I18N = False

STATIC_URL = "/static/"
DATA_UPLOAD_MAX_NUMBER_FIELDS = 10_000  # a configuration may have thousands of settings
FILE_UPLOAD_MAX_MEMORY_SIZE = 16 * 1024 * 1024
FILE_UPLOAD_TEMP_DIR = DATA_FOLDER / "arriving"  # beside the workshop, so that a file need not be moved
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
CSRF_FAILURE_VIEW = "nembrit.web.common.views.pages.csrf_refused"
MESSAGE_STORAGE = "django.contrib.messages.storage.fallback.FallbackStorage"  # a page with a message needs no write lock
SESSION_COOKIE_NAME = "nembrit-session"
CSRF_COOKIE_NAME = "nembrit-csrf"
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
# everything comes from here, and no script stands in a page
CONTENT_SECURITY_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data: blob:; "
    "media-src 'self' blob:; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
SILENCED_SYSTEM_CHECKS = [
    "security.W003",  # the token is checked by a subclass of Django's own, before files are read
    "security.W004", "security.W008", "security.W010", "security.W016",  # plain http: no HSTS, no redirect, no secure cookies
]  # fmt: skip

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
