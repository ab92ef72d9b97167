"""The ASGI application, for the application server: Django behind bounds on what clients may make it wait for."""

import os
from typing import cast

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "site_settings.settings")
django_application = get_asgi_application()

# Settings must be there first.
from django.conf import settings  # noqa: E402

from site_settings.bounds import Application, Bounds  # noqa: E402
from work.pool import Pool  # noqa: E402
from work.service import pool  # noqa: E402

if isinstance(pool, Pool):
    pool.start()
application = Bounds(cast(Application, django_application), processes=settings.WEB_PROCESSES)
