"""A network solved: the one door to routing and forwarding for whoever has a network."""

from routrel.forwarding.connections import TcpConnections
from routrel.garbage_collection import collection_paused
from routrel.model.network import Network
from routrel.routing.solve import Solved
from routrel.routing.tracking import settled


@collection_paused()
def solve(network: Network, base: Solved | None = None) -> Solved:
    """Compute everything about a network that does not depend on a question; ``base`` is the same, changed little."""
    solved = Solved(network, base, TcpConnections)
    return settled(solved, lambda before, unreached: Solved(network, before, TcpConnections, unreached))
