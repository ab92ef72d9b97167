"""Whether networks have the same ports and segments, but for what is up: what of their text the topology looks at."""

from collections.abc import Sequence

from routrel.model.devices import Device, Interface
from routrel.model.fields import replace
from routrel.model.network import Link, Network


def is_cabled_alike(one: Network, other: Network) -> bool:
    """Whether devices, interfaces, addresses, VLANs and links are the same; ``enabled`` of some may differ."""
    return (
        list(one.devices) == list(other.devices)
        and _are_same_links(one.links, other.links)
        and all(
            old is new or _is_same_device(old, new)
            for old, new in zip(one.devices.values(), other.devices.values(), strict=True)
        )
    )


def _are_same_links(one: Sequence[Link], other: Sequence[Link]) -> bool:
    return one is other or [link.ends for link in one] == [link.ends for link in other]


def _is_same_device(one: Device, other: Device) -> bool:
    return (
        one.kind == other.kind
        and one.kernel_routing == other.kernel_routing
        and list(one.vrfs) == list(other.vrfs)
        and (
            one.interfaces is other.interfaces
            or (
                list(one.interfaces) == list(other.interfaces)
                and all(map(_is_same_interface, one.interfaces.values(), other.interfaces.values()))
            )
        )
    )


def _is_same_interface(one: Interface, other: Interface) -> bool:
    return one is other or one == replace(
        other,
        place=one.place,
        enabled=one.enabled,
        description=one.description,
        address_places=one.address_places,
        mtu=one.mtu,
        bandwidth=one.bandwidth,
        shared=one.shared,
        acl_in=one.acl_in,
        acl_out=one.acl_out,
        forwarding_policy=one.forwarding_policy,
    )
