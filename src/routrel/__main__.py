"""``python -m routrel``: the command line."""

import sys

try:
    from routrel.cli import main
except ImportError as error:
    print(f"routrel: the Python environment is broken ({error}); ./routrel install-run makes it anew", file=sys.stderr)
    sys.exit(2)

sys.exit(main())
