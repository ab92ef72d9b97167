"""What can be tried against a problem of the model, where it is shown: what its text states mended, on, off or out."""

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence

from routrel.analysis.answers import model
from routrel.analysis.answers.offers import Offer
from routrel.analysis.offered_changes import instance_target, switched, taken_out, takes_changes
from routrel.analysis.stated import Stated, stated_offers, stated_parts
from routrel.analysis.virtual_routers import virtual_router_offers
from routrel.model.devices import Interface
from routrel.model.findings import Finding
from routrel.model.network import InterfaceName
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.model.virtual_routers import VirtualRouter
from routrel.routing.ospf.ports import area_name
from routrel.routing.solve import Solved

MOST_OFFERS = 6
"""Changes that are offered against one problem."""


def finding_answers(solved: Solved, findings: Sequence[Finding]) -> list[model.Finding]:
    """Findings as they are shown, each with what can be tried against it."""
    wanted = {place for finding in findings if finding.code in _OFFERED for place in finding.places if place}
    stated = defaultdict[Place, list[Stated]](list)
    for one in stated_parts(solved.network) if wanted else ():
        if one.place in wanted and (one.device is None or takes_changes(one.device)):
            stated[one.place].append(one)
    return [
        model.Finding(
            finding.code,
            finding.severity,
            finding.message,
            finding.device or None,
            finding.interface or None,
            [place for place in finding.places if place],
            list(_against(solved, finding, stated))[:MOST_OFFERS],
        )
        for finding in findings
    ]


def _against(solved: Solved, finding: Finding, stated: dict[Place, list[Stated]]) -> Iterator[Offer]:
    parts = [one for place in finding.places for one in stated.get(place, ())]
    offered = _OFFERED.get(finding.code)
    if offered is not None:
        yield from offered(solved, parts)


def _sessions(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    for one in parts:
        if one.kind == "session" and one.device is not None:
            for offer in stated_offers(one):
                yield _named(f"{one.device.name} {one.name}", offer)


def _first_taken_out(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    for one in parts[:1]:
        yield from (offer for offer in stated_offers(one) if "remove" in offer.change)


def _shadowed(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    """An entry out of its list, or before the first of those that take all it could."""
    entries = [one for one in parts if one.kind == "entry"]
    if entries and (device := entries[0].device) is not None:
        first, *by = entries
        where = {**instance_target(device.name, first.vrf), "acl": first.name}
        yield taken_out("acl_entry", where, first.index)
        before = min((one.index for one in by if one.device is device and one.name == first.name), default=None)
        if before is not None:
            change = {"move": "acl_entry", **where, "number": first.index + 1, "before": before + 1}
            yield Offer(f"before entry {before + 1}", change)


def _mtu(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    """Each interface with the MTU of the other, the larger first."""
    ports = [(one.device, one.what) for one in parts if isinstance(one.what, Interface)]
    if len(ports) == 2:
        for (device, interface), (_, other) in sorted((ports, ports[::-1]), key=lambda pair: -pair[1][1].mtu):
            if device is not None:
                name = f"{device.name}:{interface.name}"
                yield Offer(f"MTU of {name} to {other.mtu}", {"set": "mtu", "at": name, "to": other.mtu})


def _areas(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    """Each of two OSPF interfaces in the other's area, where these differ."""
    found = [of for one in parts if one.kind == "protocol" and (of := _ospf_interface(one)) is not None]
    if len(found) == 2 and found[0][2] != found[1][2]:
        for (name, more, _), (_, _, area) in (found, found[::-1]):
            change = {"set": "area", "at": str(name), **more, "to": area}
            yield Offer(f"{name} in area {area}", change)


def _ospf_interface(one: Stated) -> tuple[InterfaceName, dict[str, str], str] | None:
    """An OSPF interface by its place: its name, how a change tells its instance from others, and its area."""
    device = one.device
    if device is None:
        return None
    routing = device.routing if one.vrf == DEFAULT_INSTANCE else device.vrfs[one.vrf]
    for ospf in routing.ospf if routing is not None else ():
        for area in ospf.areas:
            for interface in area.interfaces:
                if interface.place == one.place:
                    more = {"instance": ospf.name} if routing is not None and len(routing.ospf) > 1 else {}
                    return InterfaceName(device.name, interface.name), more, area_name(area.number)
    return None


def _carrier(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    """What takes an interface's carrier: its link, or what is off at the other end."""
    for one in parts:
        if not isinstance(one.what, Interface) or one.device is None:
            continue
        own = InterfaceName(one.device.name, one.what.name)
        number = solved.topology.link_of.get(own)
        if number is None:
            continue
        link = solved.network.links[number]
        if not link.enabled:
            yield _named(f"link {own}", switched("link", str(own), False))
        for end in link.ends:
            far = solved.network.devices[end.device]
            if end != own and not far.enabled:
                yield _named(end.device, switched("device", end.device, False))
            elif end != own and not far.interfaces[end.interface].enabled:
                yield _named(str(end), switched("interface", str(end), False))


def _virtual_routers(solved: Solved, parts: list[Stated]) -> Iterator[Offer]:
    """Of routers that contend for a virtual router, each active."""
    for one in parts:
        if isinstance(one.what, VirtualRouter) and one.device is not None:
            yield from virtual_router_offers(solved.topology, one.device, one.what)


def _named(name: str, offer: Offer) -> Offer:
    return Offer(f"{name} {offer.label}", offer.change)


_OFFERED: dict[str, Callable[[Solved, list[Stated]], Iterator[Offer]]] = {
    "bgp-session": _sessions,
    "mtu-mismatch": _mtu,
    "next-hop": _first_taken_out,
    "no-carrier": _carrier,
    "ospf-neighbours": _areas,
    "shadowed": _shadowed,
    "virtual-router": _virtual_routers,
}
"""By the code of a finding: what the parts it names offer."""
