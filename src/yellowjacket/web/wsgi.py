"""The WSGI entry for the production server."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.local")

application = get_wsgi_application()

# Once for all server processes, which are copies of this one, and before the first page rather than with it.
from yellowjacket.web import urls  # noqa: E402, F401 - needs the application
from yellowjacket.web.pictures import be_ready  # noqa: E402

be_ready()
