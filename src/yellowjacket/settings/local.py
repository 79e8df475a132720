"""One machine, one data folder: everything lies under YELLOWJACKET_HOME."""

import os

from django.core.exceptions import ImproperlyConfigured

from yellowjacket.data_folder import arriving, data_folder, read_secret
from yellowjacket.settings.base import *  # noqa: F403
from yellowjacket.settings.base import SQLITE_OPTIONS

HOME = data_folder()
_secret = read_secret(HOME)
if _secret is None:
    raise ImproperlyConfigured(f"{HOME} is not prepared; run `yellowjacket serve` once, it makes the folder")
SECRET_KEY = _secret
# Set by `yellowjacket serve --host`: under which names others reach this machine, and whether what is sent is encrypted.
REACHED_AT = [name for name in os.environ.get("YELLOWJACKET_REACHED_AT", "").split(",") if name]
SIGN_IN = bool(REACHED_AT)
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = bool(os.environ.get("YELLOWJACKET_ENCRYPTED"))
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *REACHED_AT]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": HOME / "yellowjacket.sqlite3",
        "OPTIONS": SQLITE_OPTIONS,
    }
}
# Not in the cache, which may be emptied at any time.
STATIC_ROOT = HOME / "static"
FILE_UPLOAD_TEMP_DIR = arriving(HOME)
