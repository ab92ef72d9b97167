"""Access lists written in ietf-access-control-list (RFC 8519); a list it cannot hold is left whole."""

from typing import Any

from routrel.model.filters import PROTOCOL_NUMBERS

Data = dict[str, Any]

FAMILIES = {"ipv4": "0.0.0.0/0", "ipv6": "::/0"}
PORTED = ("tcp", "udp")


def write_lists(rest: Data, points: dict[str, Data]) -> Data:
    """What of the lists the model holds, taken out of a device's data; ``points`` are the lists of interfaces."""
    written = []
    held = set()
    for name, entries in list(rest.get("acls", {}).items()):
        names = entry_names(entries)
        aces = [_entry(own, entry) for own, entry in zip(names, entries, strict=True)]
        if all(ace is not None for ace in aces):
            held.add(name)
            written.append({"name": name, "aces": {"ace": aces}})
            rest["acls"].pop(name)
    attached = []
    for interface, own in points.items():
        point: Data = {"interface-id": interface}
        for key, direction in (("acl_in", "ingress"), ("acl_out", "egress")):
            if own.get(key) in held:
                point[direction] = {"acl-sets": {"acl-set": [{"name": own[key]}]}}
            elif key in own:
                rest["interfaces"][interface] = {**(rest["interfaces"].get(interface) or {}), key: own[key]}
        if len(point) > 1:
            attached.append(point)
    if not written:
        return {}
    return {"acl": written} | ({"attachment-points": {"interface": attached}} if attached else {})


def entry_names(entries: list[Data]) -> list[str]:
    """The names of a list's entries, where each has one of its own; else their numbers."""
    names = [str(entry.get("name") or "") for entry in entries]
    return names if all(names) and len(set(names)) == len(names) else [str(one + 1) for one in range(len(names))]


def _entry(name: str, entry: Data) -> Data | None:
    """An entry; None where the model cannot hold it, such as one that keeps state."""
    if entry.get("stateful"):
        return None
    matches: Data = {}
    protocol = str(entry.get("protocol", "any"))
    prefixes = {side: str(entry.get(side, "any")) for side in ("source", "destination")}
    said = [prefix for prefix in prefixes.values() if prefix != "any"]
    if said:
        family = "ipv6" if ":" in said[0] else "ipv4"
        matches[family] = {f"{side}-{family}-network": one for side, one in prefixes.items() if one != "any"}
        if protocol != "any":
            matches[family]["protocol"] = PROTOCOL_NUMBERS.get(
                protocol, protocol if not protocol.isdecimal() else int(protocol)
            )
    elif protocol != "any" and protocol not in PORTED:
        return None
    for key, leaf in (("source_ports", "source-port"), ("destination_ports", "destination-port")):
        ports = entry.get(key) or []
        if len(ports) > 1:
            return None
        if ports:
            low, _, high = str(ports[0]).partition("-")
            found = {"lower-port": int(low), "upper-port": int(high or low)}
            matches.setdefault(protocol, {})[leaf] = found
    if not said and protocol in PORTED:
        matches.setdefault(protocol, {})
    actions = {"forwarding": f"ietf-access-control-list:{entry['action']}"}
    return {"name": name, **({"matches": matches} if matches else {}), "actions": actions}
