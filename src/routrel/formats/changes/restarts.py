"""A BGP session whose age begins anew, at every end that says one."""

from datetime import timedelta
from typing import Any

from routrel.formats.changes.finding import ChangeError
from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.model.network import Network
from routrel.model.routing import DEFAULT_INSTANCE


def restarted_ends(network: Network, device: Device, vrf: str, address: Address) -> list[tuple[str, str, Address]]:
    """Device, VRF and neighbour of the end that is named, and of the other one where it says an age too."""
    own = {one.address for interface in device.interfaces.values() for one in interface.addresses}
    ends = [(device.name, vrf, address)]
    for other in network.devices.values():
        owned = {one.address for interface in other.interfaces.values() for one in interface.addresses}
        if other is device or address not in owned:
            continue
        for name, routing in ((DEFAULT_INSTANCE, other.routing), *other.vrfs.items()):
            for neighbor in () if routing is None or routing.bgp is None else routing.bgp.neighbors:
                if neighbor.established_at is not None and neighbor.address in own:
                    ends.append((other.name, name, neighbor.address))
    return ends


def restarted_at(network: Network, to: Any) -> Any:
    """When it comes up: as the change says, else a minute after all that the network knows."""
    if to is not None:
        return to
    known = [] if network.taken_at is None else [network.taken_at]
    for device in network.devices.values():
        for routing in (device.routing, *device.vrfs.values()):
            neighbors = () if routing is None or routing.bgp is None else routing.bgp.neighbors
            known += [one.established_at for one in neighbors if one.established_at is not None]
    if not known:
        raise ChangeError("no session of the network says its age", "", "to: the time at which it comes up")
    return (max(known) + timedelta(minutes=1)).strftime("%Y-%m-%dT%H:%M:%SZ")
