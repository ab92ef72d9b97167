"""What the API's schema shows of each question: how it is asked of the network that ships, and some answers.

The answers stand in ``examples.json``, written by ``./routrel generate`` and held against real ones by the tests.
"""

import json
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from networks.example import FILE_NAME, zipped_example
from work.answering import answer
from work.solved_revision import SolvedRevision

ANSWERS_FILE = Path(__file__).with_name("examples.json")

ASKED: dict[str, dict[str, Any]] = {
    "walk": {"from": "ot-tracking", "to": "bookings", "service": "tracking"},
    "remedies": {"from": "gp-kiosk", "to": "bookings", "service": "booking"},
    "wanted-way": {"from": "gp-gates", "to": "bookings", "service": "booking", "avoiding": "bw-radio"},
    "words": {"q": "bw-c"},
    "find": {"q": "10.40.2.80"},
    "table": {"device": "oq-winch"},
    "drift": {"device": "bw-core1"},
    "contest": {"device": "bw-core1", "prefix": "0.0.0.0/0"},
    "tipping": {"device": "bw-core1", "prefix": "0.0.0.0/0"},
    "forest": {"prefix": "203.0.113.99"},
    "policy": {"device": "bw-border", "policy": "from-lantern"},
    "comparison": {"since": 1},
    "maintenance": {"shut": "device bw-core2"},
    "turned": {"since": 1, "expectation": "the shop is open to the world"},
    "leaning": {"expectation": "the shop is open to the world"},
    "outline": {"file": "devices/bw-core1.yaml"},
    "statements": {"file": "devices/bw-core1.yaml", "line": 23},
    "source": {"file": "devices/oq-winch.yaml"},
    "tried": {"trial": 1},
    "moved": {"trial": 1},
    "held": {"trial": 1},
    "endangered": {"device": "bw-fw"},
    "strip": {"from": "gp-gates", "to": "bookings", "service": "booking"},
    "route-over-time": {"device": "bw-border", "prefix": "172.21.7.0/24"},
    "measured": {"what": "link", "at": "Brackwater-Gullpoint", "measure": "delay"},
    "state": {"moment": "2026-11-20T05:00:00Z"},
    "difference": {"trial": 1},
    "patches": {"trial": 1},
    "device-text": {"device": "oq-winch"},
}
"""The words of each question that has some."""

CHANGES = [{"set": "cost", "at": "gp-core:e1", "to": 400, "instance": "four"}, {"disable": "device", "at": "bw-radio"}]
"""The changes of the trial that is asked about."""

WALKS = {"flows": [{"from": "ot-gates", "to": "bookings", "service": "booking"}]}
"""A body for many flows in one call."""

_PARAMETERS = {
    "words": ASKED["words"],
    "table": ASKED["table"],
    "tipping": ASKED["tipping"],
    "outline": ASKED["outline"],
    "statements": {**ASKED["statements"], "column": 1, "end": 1000},
    "instances": {},
    "services": {},
    "source": ASKED["source"],
    "device-text": ASKED["device-text"],
    "tried": {},
    "difference": {},
    "walks": {"flows": [{"source": "ot-gates", "destination": "bookings", "service": "booking"}]},
}
"""The questions whose answers are short enough to be shown, as a work process takes them."""


def address_of(question: str) -> str:
    """How a question is asked: the end of an address."""
    words = ASKED.get(question)
    return f".../revisions/latest/{question}" + (f"?{urlencode(words)}" if words else "")


def answers() -> dict[str, Any]:
    """Answers of the network that ships, made anew."""
    revision = SolvedRevision.of(FILE_NAME, zipped_example())
    trial = revision.tried(json.dumps(CHANGES))
    asked = {name: trial if "trial" in ASKED.get(name, {}) else revision for name in _PARAMETERS}
    return {name: json.loads(answer(asked[name], name, words)) for name, words in _PARAMETERS.items()}


def kept_answers() -> dict[str, Any]:
    """The same as they were written down."""
    kept: dict[str, Any] = json.loads(ANSWERS_FILE.read_text()) if ANSWERS_FILE.is_file() else {}
    return kept
