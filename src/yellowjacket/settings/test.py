"""For pytest: a throw-away folder, work done at once, static files straight from the sources."""

import atexit
import shutil
import tempfile
from pathlib import Path

from yellowjacket.settings.base import *  # noqa: F403
from yellowjacket.settings.base import SQLITE_OPTIONS

HOME = Path(tempfile.mkdtemp(prefix="yellowjacket-test-"))
atexit.register(shutil.rmtree, HOME, ignore_errors=True)
SECRET_KEY = "only-for-tests"  # noqa: S105 - guards nothing
ALLOWED_HOSTS = ["testserver"]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": HOME / "test.sqlite3",
        "OPTIONS": SQLITE_OPTIONS,
    }
}
STATIC_ROOT = HOME / "static"
STATIC_ROOT.mkdir()
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
TASKS = {"default": {"BACKEND": "django_tasks.backends.immediate.ImmediateBackend"}}
# Passwords of tests guard nothing, and a slow hash would cost half a second each.
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
