"""Virtual routers of an interface as the network file writes them."""

from collections.abc import Iterable

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.grammar import Items, Record, items_of
from routrel.model.addresses import InterfaceAddress
from routrel.model.virtual_routers import TrackedInterface, TrackedNetwork, VirtualRouter


def virtual_routers(
    listed: Items, addresses: Iterable[InterfaceAddress], names: set[str], errors: ErrorList
) -> tuple[VirtualRouter, ...]:
    """Those of an interface with some addresses; ``names`` are all interfaces of its device."""
    families = {address.family for address in addresses}
    found: list[VirtualRouter] = []
    for one, place in listed.pairs():
        virtual = [address for address, _ in items_of(one["addresses"])]
        if not virtual:
            continue  # none of them could be read, which is said
        family = virtual[0].family
        for address, at in items_of(one["addresses"]):
            if address.family != family:
                errors.add(
                    at,
                    "the addresses of a virtual router are of one family",
                    found=quoted(address),
                    allowed=f"IPv{family} addresses; those of the other family in an entry of their own",
                )
        if family not in families:
            errors.add(
                place,
                f"an interface without an IPv{family} address takes no part in a virtual router of that family",
                found=quoted(virtual[0]),
                allowed=f"an IPv{family} address in 'addresses' of the interface",
            )
        version = one.get("version", 3)
        if version == 2 and family == 6:
            errors.add(one.place_of("version"), "version 2 knows no IPv6", found=quoted(version), allowed="3")
        for tracked, _ in items_of(one.get("track")):
            _check_tracked(tracked, family, names, errors)
        if any((one["id"], family) == (other.identifier, other.family) for other in found):
            errors.add(
                one.place_of("id"),
                f"this interface has a virtual router {one['id']} of IPv{family} already",
                found=quoted(one["id"]),
                allowed="one entry for each, with all its addresses",
            )
        tracks = [tracked for tracked, _ in items_of(one.get("track"))]
        found.append(
            one.into(
                VirtualRouter,
                identifier=one["id"],
                addresses=tuple(virtual),
                place=place,
                tracked=tuple(each.into(TrackedInterface) for each in tracks if "interface" in each),
                tracked_networks=tuple(
                    each.into(TrackedNetwork, prefix=each["network"]) for each in tracks if "network" in each
                ),
            )
        )
    return tuple(found)


def _check_tracked(tracked: Record, family: int, names: set[str], errors: ErrorList) -> None:
    """Whether something that a virtual router of a family tracks is an interface of its device or a network."""
    interface, network = tracked.get("interface"), tracked.get("network")
    if (interface is None) == (network is None):
        said = "neither" if interface is None else "both"
        errors.add(tracked.place, "what is tracked is an interface or a network", found=said, allowed="one of both")
    elif interface is not None and interface not in names:
        errors.dangling(tracked.place_of("interface"), "interface", interface, names)
    elif network is not None and network.family != family:
        errors.add(
            tracked.place_of("network"),
            "a virtual router tracks networks of its own family",
            found=quoted(network),
            allowed=f"a prefix of IPv{family}",
        )
