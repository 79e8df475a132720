"""What every way of running shares. Paths and the secret come from ``local`` or ``test``."""

from datetime import timedelta

from csp.constants import NONE, SELF

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "whitenoise.runserver_nostatic",
    "django.contrib.staticfiles",
    "csp",
    "axes",
    "django_tasks",
    "django_tasks_db",
    "yellowjacket.bench",
    "yellowjacket.web",
]

MIDDLEWARE = [
    "yellowjacket.web.http.streaming.PieceByPiece",
    "yellowjacket.web.http.headers.OwnHeaders",
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "yellowjacket.web.http.compression.TextCompression",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "yellowjacket.web.people.doors.Doors",
    "axes.middleware.AxesMiddleware",
]

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
                "yellowjacket.web.people.doors.who",
                "yellowjacket.web.places.rail",
            ],
            "builtins": [
                "django.templatetags.static",
                "yellowjacket.web.templatetags.values",
            ],
        },
    },
]

DEBUG = False
ROOT_URLCONF = "yellowjacket.web.urls"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
# One language: looking for translations would take a tenth of every page.
USE_I18N = False
STATIC_URL = "static/"
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "yellowjacket.web.http.storage.StaticStorage"},
}

TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend"}}

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "img-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
SECURE_REFERRER_POLICY = "same-origin"
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_HTTPONLY = True
CSRF_COOKIE_SAMESITE = "Lax"
CSRF_FAILURE_VIEW = "yellowjacket.web.http.errors.csrf_failure"

# Signing in is only asked for where others can reach the application: `yellowjacket serve --host`.
SIGN_IN = False
LOGIN_URL, LOGIN_REDIRECT_URL, LOGOUT_REDIRECT_URL = "people:sign-in", "desk:page", "people:sign-in"
# Names and addresses under which others reach it, for the phone page.
REACHED_AT: list[str] = []
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
]
# After five failures, whatever the name, an address waits. Signing in does not take them back: whoever has an account could
# guess at the others' in between.
AXES_FAILURE_LIMIT = 5
AXES_LOCKOUT_PARAMETERS = ["ip_address"]
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_RESET_ON_SUCCESS = False
AXES_ENABLE_ADMIN = False
AXES_VERBOSE = False
AXES_LOCKOUT_CALLABLE = "yellowjacket.web.people.doors.locked_out"

# Uploads: one raw file may be this large, and so many may come at once; larger folders are read in place.
UPLOAD_MAX_BYTES = 500 * 1024 * 1024
DATA_UPLOAD_MAX_NUMBER_FILES = 400
# A sitting with all its originals.
ARCHIVE_MAX_BYTES = 32 * 1024**3
DATA_UPLOAD_MAX_NUMBER_FIELDS = 2000
# Folders are read this many files deep at most, so that a slip does not walk a whole disk.
IMPORT_MAX_FILES = 5000
# Decoded mosaics kept for quick crops; the oldest go first.
CACHE_MAX_BYTES = 4 * 1024**3

SQLITE_OPTIONS = {
    "transaction_mode": "IMMEDIATE",
    "timeout": 20,
    "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA foreign_keys=ON;",
}

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "{levelname} {name}: {message}", "style": "{"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
