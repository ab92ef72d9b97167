"""Django's command line for the Routrel server."""

import os
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def main() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "site_settings.settings")
    sys.path[:0] = [str(ROOT / "src"), str(ROOT / "server")]
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)


if __name__ == "__main__":
    main()
