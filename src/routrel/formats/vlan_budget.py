"""How many VLAN tags may pass how many ports that take them all: finding segments looks at each pair."""

from routrel.formats.errors import InputError, LoadError
from routrel.model.devices import Device
from routrel.model.network import Network

MOST_TAGGED_PORTS = 1_000_000


def refuse_too_many_tagged_ports(network: Network) -> None:
    """Raise ``LoadError`` where all VLANs in use, by all ports that pass every tag, are too many pairs.

    Such ports are those of switches that tell no VLANs apart, and the members of bundles.
    """
    tags = {0}
    taking_all: list[tuple[Device, int]] = []
    for device in network.devices.values():
        interfaces = device.interfaces.values()
        for interface in interfaces:
            if interface.vlan is not None:
                tags.add(interface.vlan)
            if interface.switchport is not None:
                tags.update(interface.switchport.trunk)
        is_managed = any(one.switchport or (one.vlan is not None and one.parent is None) for one in interfaces)
        ports = len(interfaces) if device.kind == "switch" and not is_managed else 0
        taking_all.append((device, ports + sum(len(interface.members) for interface in interfaces)))
    total = sum(ports for _, ports in taking_all)
    if total * len(tags) > MOST_TAGGED_PORTS:
        device, ports = max(taking_all, key=lambda one: one[1])
        found = f"{total} such ports, {ports} of them here, and {len(tags)} tags"
        message = "too many VLAN tags for the ports that pass all of them: state what the ports of switches carry"
        allowed = f"{MOST_TAGGED_PORTS:,} pairs of a port and a tag"
        raise LoadError([InputError(device.place, message, found, allowed)])
