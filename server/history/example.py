"""What happened to the network that ships with Routrel."""

import hashlib
from runpy import run_path
from typing import Any

from django.conf import settings

from history.records import loaded, store
from networks.access import subject_of
from networks.models import Network
from networks.reigns import reign_of

EXAMPLE = settings.ROOT / "examples" / "saltmarsh-history"


def add_example_history(network: Network, user: Any) -> None:
    """Two weeks that end at the example's revision: what happened, and what was measured."""
    samples: str = run_path(str(EXAMPLE / "samples.py"))["text"]()
    revision = network.revisions.defer("packed").get(number=1)
    for name, data in (("events.jsonl", (EXAMPLE / "events.jsonl").read_bytes()), ("samples.csv", samples.encode())):
        found = loaded(subject_of(revision), reign_of(revision).since, name, data, user)
        store(network, hashlib.sha256(data).hexdigest(), name, data, found, user)
