"""The parts of explanations: of every routing protocol, the ``CONTEST`` of the room of its name."""

from importlib import import_module

from routrel.analysis.contest.protocol import ProtocolContest
from routrel.model.routing import ROUTING_PROTOCOLS

CONTESTS: dict[str, type[ProtocolContest]] = {
    name: import_module(f"{__package__}.{name}").CONTEST for name in ROUTING_PROTOCOLS
}
