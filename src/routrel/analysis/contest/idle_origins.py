"""Why a device that is told a prefix does not have it: interfaces that are down, static routes that lead nowhere."""

from collections.abc import Iterator

from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import StaticRoute
from routrel.topology.ports import Port
from routrel.topology.wiring import down_place


def idle_steps(explainer: Explainer, instance: int, prefix: Prefix) -> Iterator[Step]:
    """What an instance is told of a prefix that is not in its table, and why it is not."""
    for port in _down_ports(explainer, instance):
        if prefix in port.prefixes or prefix in (address.host_prefix() for address in port.addresses):
            text = f"{port.name}, which has it, is down: {port.down}"
            yield Step(instance, text, down_place(explainer.topology, port), True)
    explainer.solved.table(instance)
    for route, reason in explainer.solved.unresolved.get(instance, ()):
        if route.prefix == prefix and isinstance(route, StaticRoute):
            yield _leading_nowhere(explainer, instance, route, reason)


def down_towards(explainer: Explainer, instance: int, address: Address) -> list[Step]:
    """The interfaces of an instance that are down and have an address on their subnet."""
    return [
        Step(
            instance,
            f"{port.name}, on whose subnet {address} is, is down: {port.down}",
            down_place(explainer.topology, port),
            True,
        )
        for port in _down_ports(explainer, instance)
        if any(prefix.contains(address) for prefix in port.prefixes)
    ]


def _down_ports(explainer: Explainer, instance: int) -> list[Port]:
    topology = explainer.topology
    ports = [topology.ports[number] for number in topology.ports_of[topology.instances[instance].device]]
    return [port for port in ports if port.instance == instance and not port.up]


def _leading_nowhere(explainer: Explainer, instance: int, static: StaticRoute, reason: str) -> Step:
    topology, address = explainer.topology, static.next_hop
    text = f"the static route for it on {topology.instance_name(instance)} is not active: {reason}"
    if static.interface is not None:
        port = topology.ports_named[topology.instances[instance].device][static.interface]
        return Step(instance, text, down_place(topology, port), True, (static.place,))
    is_unknown = address is not None and explainer.solved.lookup(instance, address) is None
    return Step(instance, text, static.place, True, lacks=(instance, address) if address and is_unknown else None)
