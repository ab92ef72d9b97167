"""What the words of a flow name: its ends and its service.

A place is a device, ``device:interface``, an address, or an endpoint's name; a service is ``icmp``,
``tcp/443``, a service's name, or a protocol. What a word does not name is a ``FlowError`` that says what
it could have been.
"""

from msgspec import Struct

from routrel.formats.errors import nearest
from routrel.formats.network_grammar import service as parse_service
from routrel.model.addresses import Address
from routrel.model.filters import PROTOCOL_NUMBERS, PortRange
from routrel.model.network import InterfaceName, Network, Service
from routrel.routing.neighbors import router_id
from routrel.routing.solve import Solved
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

ALL_PORTS = PortRange(0, 65535)


class FlowError(Exception):
    """A flow that cannot be asked; the message says which word, and what is allowed."""


class FlowEnd(Struct, frozen=True):
    """One end of a flow, understood: the device it is on (None: outside), and its address if settled.

    ``instance`` is the routing instance of that device in which the flow begins or ends.
    """

    word: str
    device: int | None
    address: Address | None
    instance: int | None
    ends: frozenset[int] | None = None
    """The routing instances at which a packet for it has arrived; None: any that owns the address."""


def parse_end(solved: Solved, word: str) -> FlowEnd:
    """What a word names: an endpoint, a device, an interface or an address.

    Of an address with several owners the first is the place; ``owning_instances`` has them all.
    """
    network, topology = solved.network, solved.topology
    if word in network.endpoints:
        return _address_end(solved, word, network.endpoints[word].address)
    if word in topology.device_index:
        instance = topology.device_index[word]
        return FlowEnd(word, instance, None, instance, frozenset([instance]))
    device, colon, interface = word.partition(":")
    if colon and device in topology.device_index:
        name = InterfaceName(device, interface)
        if name not in topology.port_index:
            known = [topology.ports[port].name.interface for port in topology.ports_of[topology.device_index[device]]]
            raise FlowError(f"{device} has no interface {interface!r}{_nearest(interface, known)}")
        port = topology.ports[topology.port_index[name]]
        if not port.interface.addresses:
            raise FlowError(f"the interface {word} has no address to ask about")
        return FlowEnd(word, port.device, port.addresses[0], port.instance, frozenset([port.instance]))
    try:
        return _address_end(solved, word, Address.parse(word))
    except ValueError:
        names = [*network.endpoints, *topology.device_index]
        raise FlowError(
            f"{word!r} is no device, device:interface, address or endpoint of this network{_nearest(word, names)}"
        ) from None


def _address_end(solved: Solved, word: str, address: Address) -> FlowEnd:
    owner = solved.topology.owner(address)
    if owner is None:
        return FlowEnd(word, None, address, None)
    port = solved.topology.ports[owner]
    return FlowEnd(word, port.device, address, port.instance)


def owning_instances(topology: Topology, address: Address) -> dict[int, Port]:
    """The routing instances that own an address, each with the first interface that has it."""
    found: dict[int, Port] = {}
    for number in topology.owners.get(address, ()):
        found.setdefault(topology.ports[number].instance, topology.ports[number])
    return found


def _nearest(word: str, names: list[str]) -> str:
    close = nearest(word, names)
    return f"; did you mean {close[0]}?" if close else ""


def parse_flow_service(network: Network, word: str) -> Service:
    """A service by name or in its written form; tcp or udp alone stands for all its ports."""
    if word in network.services:
        return network.services[word]
    if word in ("tcp", "udp"):
        return Service("", PROTOCOL_NUMBERS[word], ALL_PORTS)
    try:
        return parse_service(word)
    except ValueError:
        names = ["icmp", "tcp/443", "udp/53", *network.services]
        hint = _nearest(word, names)
        raise FlowError(f"{word!r} is no service of this network and none like tcp/443 or icmp{hint}") from None


def device_address(topology: Topology, instance: int, family: int) -> Address | None:
    """The address that stands for an instance: its router id's where it owns that, else the lowest loopback,
    else its first address of the family."""
    found = topology.instances[instance]
    own = [
        (interface.is_loopback, address.address)
        for interface in topology.devices[found.device].interfaces.values()
        if interface.enabled and interface.vrf == found.vrf
        for address in interface.addresses
        if address.family == family and not address.address.is_link_local
    ]
    identifier = router_id(topology, instance) if found.routing else None
    if identifier is not None and any(address == identifier for _, address in own):
        return identifier
    loopbacks = sorted(address for is_loopback, address in own if is_loopback)
    return loopbacks[0] if loopbacks else (own[0][1] if own else None)
