"""What happened to the network that ships with Routrel."""

import hashlib
from typing import Any

from django.conf import settings

from history.records import loaded, store
from networks.access import subject_of
from networks.models import Network
from networks.reigns import reign_of

EXAMPLE = settings.ROOT / "examples" / "saltmarsh-history" / "events.jsonl"


def add_example_history(network: Network, user: Any) -> None:
    """Two weeks that end at the example's revision."""
    data = EXAMPLE.read_bytes()
    revision = network.revisions.defer("packed").get(number=1)
    found = loaded(subject_of(revision), reign_of(revision).since, EXAMPLE.name, data, user)
    store(network, hashlib.sha256(data).hexdigest(), EXAMPLE.name, data, found, user)
