"""The server's settings for tests run without ./routrel: with a secret of theirs."""

import os

os.environ.setdefault("ROUTREL_SECRET", "of the tests alone")

from site_settings.settings import *  # noqa: F403
