"""The WSGI entry for the production server."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.local")

application = get_wsgi_application()
