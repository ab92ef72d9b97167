"""``python -m routrel``: the command line."""

import sys

from routrel.cli import main

sys.exit(main())
