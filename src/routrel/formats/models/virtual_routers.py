"""Virtual routers (VRRP): ietf-vrrp (RFC 8347) and the groups of OpenConfig's addresses, read and written.

Timers and counters decide nothing of where packets go in the long run.
"""

from collections.abc import Iterable
from typing import Any

from routrel.formats.models.draft import DeviceDraft, Draft, Said
from routrel.formats.models.statements import Statement

WITHOUT_ADDRESSES = "a virtual router (VRRP) without addresses, or on an interface that has none, is not represented"


def read_ietf_virtual_routers(interface: Draft, name: str, ip: Statement, family: str, draft: DeviceDraft) -> None:
    """The list ``vrrp-instance`` of ``ipv4`` or ``ipv6``."""
    has_address = bool(ip.entries("address"))
    for number, entry in draft.keyed(ip.entries("vrrp", "vrrp-instance"), "vrid"):
        listed = entry.entries(f"virtual-{family}-addresses", f"virtual-{family}-address")
        addresses = [Said(address, one) for address, one in draft.keyed(listed, f"{family}-address")]
        if not addresses or not has_address:
            draft.gap(WITHOUT_ADDRESSES, entry, name)
            entry.read_all()
            continue
        router = _begun(interface, entry, number, addresses)
        version = entry.identity("version")
        if version is not None:
            router.put("version", entry.at("version"), "2" if version == "vrrp-v2" else "3")
        router.put("preempt", entry.at("preempt", "enabled"))
        for kind, key in (("interface", "interface"), ("network", "prefix")):
            tracked = draft.keyed(entry.entries("track", f"{kind}s", kind), key)
            _track(router, kind, ((one, by, by.at("priority-decrement")) for one, by in tracked))
        entry.read_all()


def read_openconfig_virtual_routers(interface: Draft, name: str, address: Statement, draft: DeviceDraft) -> None:
    """The list ``vrrp-group`` of an address."""
    for number, entry in draft.keyed(address.entries("vrrp", "vrrp-group"), "virtual-router-id"):
        said = [*entry.entries("virtual-link-local"), *entry.entries("virtual-address")]
        if not said:
            draft.gap(WITHOUT_ADDRESSES, entry, name)
            entry.read_all()
            continue
        router = _begun(interface, entry, number, [Said(one.value or "", one) for one in said])
        router.put("preempt", entry.at("preempt"))
        tracking = entry.at("interface-tracking")
        if tracking is not None:
            lost = tracking.at("priority-decrement")
            _track(router, "interface", ((one.value or "", one, lost) for one in tracking.entries("track-interface")))
        entry.read_all()


def _begun(interface: Draft, entry: Statement, number: str, addresses: list[Said]) -> Draft:
    router = Draft(entry, id=Said(number, entry), addresses=addresses)
    interface.setdefault("virtual_routers", []).append(router)
    router.put("priority", entry.at("priority"))
    router.put("accept", entry.at("accept-mode"))
    return router


def _track(router: Draft, kind: str, tracked: Iterable[tuple[str, Statement, Statement | None]]) -> None:
    for name, by, lost in tracked:
        one = Draft(by, **{kind: Said(name, by)})
        one.put("decrement", lost)
        router.setdefault("track", []).append(one)


def written_virtual_routers(routers: list[dict[str, Any]]) -> dict[str, Any]:
    """Per family, ``ipv4`` or ``ipv6``, its container ``vrrp``, by what a network file says of an interface."""
    found: dict[str, list[dict[str, Any]]] = {}
    for one in routers:
        family = "ipv6" if ":" in one["addresses"][0] else "ipv4"
        entry: dict[str, Any] = {"vrid": one["id"], "version": f"ietf-vrrp:vrrp-v{one.get('version', 3)}"}
        if "priority" in one:
            entry["priority"] = one["priority"]
        if "preempt" in one:
            entry["preempt"] = {"enabled": one["preempt"]}
        if "accept" in one:
            entry["accept-mode"] = one["accept"]
        if "track" in one:
            tracked = {
                f"{kind}s": {kind: [_written_tracked(each, kind, key) for each in one["track"] if kind in each]}
                for kind, key in (("interface", "interface"), ("network", "prefix"))
            }
            entry["track"] = {kinds: listed for kinds, listed in tracked.items() if any(listed.values())}
        listed = [{f"{family}-address": address} for address in one["addresses"]]
        entry[f"virtual-{family}-addresses"] = {f"virtual-{family}-address": listed}
        found.setdefault(family, []).append(entry)
    return {family: {"vrrp-instance": entries} for family, entries in found.items()}


def _written_tracked(tracked: dict[str, Any], kind: str, key: str) -> dict[str, Any]:
    lost = {"priority-decrement": tracked["decrement"]} if "decrement" in tracked else {}
    return {key: tracked[kind], **lost}
