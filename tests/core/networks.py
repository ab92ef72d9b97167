"""Small networks for tests, written as the network file is."""

import json
from typing import Any

import msgspec

from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.errors import LoadError
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Asker, Flow, Walk
from routrel.routing.routes import Route
from routrel.routing.solve import Solved
from routrel.solving import solve


def load(text: str) -> Solved:
    """A solved network of the text that follows the version and the name."""
    return solve(read_network({"network.yaml": f"routrel: 1\nname: test\n{text}".encode()}))


def errors(text: str) -> list[str]:
    """The errors of a network file, as messages."""
    try:
        read_network({"network.yaml": f"routrel: 1\nname: test\n{text}".encode()})
    except LoadError as error:
        return [str(one) for one in error.errors]
    return []


def table(solved: Solved, device: str) -> dict[str, Route]:
    return {str(route.prefix): route for route in solved.table(solved.topology.device_index[device])}


def hops(solved: Solved, route: Route) -> list[str]:
    """Next hops as ``address@interface``."""
    ports = solved.topology.ports
    return [f"{hop.address or 'itself'}@{ports[hop.port].name.interface}" for hop in route.next_hops]


def plain(answer: object) -> Any:
    """An answer as whoever reads its JSON has it."""
    return json.loads(msgspec.json.encode(answer))


def walk(solved: Solved, source: str, destination: str, service: str = "icmp", **more) -> Walk:
    return Asker(solved).ask(Flow(source, destination, service, **more))


def answer(solved: Solved, source: str, destination: str, service: str = "icmp", **more) -> dict:
    answerer = Answerer(solved)
    return plain(answerer.verdict(answerer.asker.ask(Flow(source, destination, service, **more))))


def router(name: str, interfaces: dict[str, str], routing: str = "", more: str = "") -> str:
    """A device's text: interfaces by name with what stands in their braces."""
    lines = [f"  {name}:", "    interfaces:", *(f"      {i}: {{{text}}}" for i, text in interfaces.items())]
    if routing:
        lines += ["    routing:", *(f"      {line}" for line in routing.strip("\n").split("\n"))]
    return "\n".join([*lines, *(f"    {line}" for line in more.strip("\n").split("\n") if line)]) + "\n"


def solution_of(solved, protocol):
    """The network's solution of a protocol; of OSPF that of the lower version."""
    return next(solution for solution in solved.solutions if solution.protocol == protocol)
