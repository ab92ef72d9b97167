"""Access lists: ietf-access-control-list (RFC 8519) and OpenConfig's ACLs, with where they stand.

An entry that asks for what the model does not know is left out, and said wherever its list is asked.
"""

import re
from collections import Counter

from routrel.formats.models.draft import DeviceDraft, Draft, Said, UnrepresentedError, prefix_of
from routrel.formats.models.interfaces import openconfig_name
from routrel.formats.models.statements import Statement
from routrel.model.filters import PORTED, PROTOCOL_NUMBERS

ACTIONS = {
    "accept": "accept",
    "ACCEPT": "accept",
    "drop": "drop",
    "DROP": "drop",
    "reject": "reject",
    "REJECT": "reject",
}
NAMED_PROTOCOLS = {"IP_TCP": "tcp", "IP_UDP": "udp", "IP_ICMP": "icmp"}
LAST_PORT = 65535
FAMILIES = {"ipv4": "0.0.0.0/0", "ipv6": "::/0"}
IDLE_ACTIONS = ("logging", "log-action")


def read_ietf_lists(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``/ietf-access-control-list:acls``."""
    lists = _Lists(draft)
    for name, acl in draft.keyed(top.entries("acl"), "name"):
        entries = [entry for _, entry in draft.keyed(acl.entries("aces", "ace"), "name")]
        lists.read(draft.fitting(name), acl, entries)
    for name, point in draft.keyed(top.entries("attachment-points", "interface"), "interface-id"):
        for direction, key in (("ingress", "acl_in"), ("egress", "acl_out")):
            sets = point.entries(direction, "acl-sets", "acl-set")
            lists.attach(name, key, [(one.at("name"), one.text("name") or "") for one in sets])
    lists.drop_joined()


def read_openconfig_lists(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``/openconfig-acl:acl``; a list's name may stand once for each type."""
    lists = _Lists(draft)
    sets = list(draft.keyed(top.entries("acl-sets", "acl-set"), "name", "type"))
    several = {name for name, count in Counter(name for name, _ in sets).items() if count > 1}

    def named(name: str | None, one: Statement) -> str:
        return f"{name} {one.identity('type')}" if name in several else name or ""

    for name, acl in sets:
        entries = [entry for _, entry in draft.keyed(acl.entries("acl-entries", "acl-entry"), "sequence-id")]
        entries.sort(key=lambda one: int(text) if (text := one.text("sequence-id") or "0").isdecimal() else 0)
        acl.at("type")
        lists.read(draft.fitting(named(name, acl)), acl, entries)
    for own, point in draft.keyed(top.entries("interfaces", "interface"), "id"):
        name = openconfig_name(draft, point, own)
        for direction, key in (("ingress", "acl_in"), ("egress", "acl_out")):
            sets_there = point.entries(f"{direction}-acl-sets", f"{direction}-acl-set")
            for one in sets_there:
                one.at("type")
                for entry in one.entries("acl-entries", "acl-entry"):
                    entry.read_all()  # how often each was met
            lists.attach(name, key, [(one.at("set-name"), named(one.text("set-name"), one)) for one in sets_there])
    lists.drop_joined()


class _Lists:
    """The lists of a device: of which families they are, and what of them was left out."""

    def __init__(self, draft: DeviceDraft):
        self.draft = draft
        self.families: dict[str, tuple[str, ...]] = {}
        self.entries: dict[str, list[Draft]] = {}
        self.left_out: dict[str, list[UnrepresentedError]] = {}
        self.of_frames: set[str] = set()
        """Lists that are asked of frames, whatever they carry."""
        self.alone: set[str] = set()
        self.joined: set[str] = set()

    def read(self, name: str, acl: Statement, entries: list[Statement]) -> None:
        """Note a list; one of a single family lets the other pass, which it is never asked of."""
        kind = (acl.identity("type") or "").lower()
        families = tuple(family for family in FAMILIES if family in kind)
        if not families and ("eth" in kind or "l2" in kind):
            acl.read_all(is_left_out=True)
            self.of_frames.add(name)
            return
        families = families or tuple(FAMILIES)
        self.families[name] = families
        found = self.entries[name] = []
        for entry in entries:
            try:
                found.append(_entry(entry))
                if len(families) == 1 and not {"source", "destination"} & found[-1].keys():
                    found[-1]["source"] = Said(FAMILIES[families[0]], entry)
            except UnrepresentedError as error:
                entry.read_all(is_left_out=True)
                self.left_out.setdefault(name, []).append(error)
        self._put(name, [name], acl)

    def _put(self, name: str, parts: list[str], by: Statement) -> None:
        """A list of the entries of several, and of what passes them by."""
        asked = {family for part in parts for family in self.families.get(part, FAMILIES)}
        passing = [
            Draft(by, action=Said("accept", by), source=Said(whole, by), name=Said(f"{family} is not asked", by))
            for family, whole in FAMILIES.items()
            if family not in asked
        ]
        entries = [entry for part in parts for entry in self.entries.get(part, ())]
        self.draft.begin(by).inner("acls", by)[name] = [*entries, *passing]

    def attach(self, interface: str, key: str, named: list[tuple[Statement | None, str]]) -> None:
        """Lists on an interface, asked in order: what none of them decides is dropped, so they make one list."""
        names = [Said(self.draft.fitting(name), said) for said, name in named if said is not None and said.value]
        for name in names:
            if name.text in self.of_frames:
                self.draft.gap("an access list of frames is not represented", name.by, interface)
        names = [name for name in names if name.text not in self.of_frames]
        if not names:
            return
        by = names[0].by
        for name in names:
            if name.text not in self.entries:
                self.draft.dangling(Said(name.by.value or "", name.by), "ACL", self.entries)
            for error in self.left_out.get(name.text, ()):
                self.draft.gap(f"{error}, so its ACL entry is left out", error.by, interface)
        parts = [name.text for name in names]
        whole = parts[0]
        if len(parts) > 1:
            whole = self.draft.fitting(" ".join(parts))
            self._put(whole, parts, by)
        (self.joined if len(parts) > 1 else self.alone).update(parts)
        if interface in self.draft.interfaces():
            self.draft.interfaces()[interface][key] = Said(whole, by)
        else:
            self.draft.dangling(Said(interface, by), "interface", self.draft.interfaces())

    def drop_joined(self) -> None:
        """Take out the lists that stand only as part of others."""
        for name in self.joined - self.alone:
            if self.draft.root is not None:
                self.draft.root["acls"].pop(name, None)


def _entry(entry: Statement) -> Draft:
    """An entry of either model."""
    action = entry.at("actions", "forwarding") or entry.at("actions", "forwarding-action")
    word = ACTIONS.get((action.value or "").rpartition(":")[2]) if action is not None else None
    if word is None:
        what = "an entry without an action" if action is None else f"the action {action.value}"
        raise UnrepresentedError(f"{what} is not represented", entry)
    for idle in IDLE_ACTIONS:
        entry.at("actions", idle)
    found = Draft(entry, action=Said(word, action or entry))
    name = entry.text("name") or entry.text("sequence-id")
    if name:
        found["name"] = Said(name, entry)
    where = entry.at("matches") or entry
    for family in ("ipv4", "ipv6"):
        ip = where.at(family)
        if ip is not None:
            _read_addresses(found, ip, family)
    for protocol in ("tcp", "udp"):
        ports = where.at(protocol)
        if ports is not None:
            found.setdefault("protocol", Said(protocol, ports))
            _read_port(found, ports, "source-port", "source_ports")
            _read_port(found, ports, "destination-port", "destination_ports")
    if where.at("icmp") is not None:
        found.setdefault("protocol", Said("icmpv6" if where.at("ipv6") is not None else "icmp", entry))
    transport = entry.at("transport")
    if transport is not None:
        _read_port(found, transport, "source-port", "source_ports")
        _read_port(found, transport, "destination-port", "destination_ports")
        if any(key in found for key in ("source_ports", "destination_ports")) and "protocol" not in found:
            raise UnrepresentedError("ports without a protocol are not represented", transport)
    entry.at("sequence-id"), entry.at("description")
    for one in entry.entries("statistics") + entry.entries("state"):
        one.read_all()
    for leaf in entry.leaves():
        if not leaf.is_read:
            raise UnrepresentedError(f"the condition {leaf.name} is not represented", leaf)
    return found


def _read_addresses(found: Draft, ip: Statement, family: str) -> None:
    for side in ("source", "destination"):
        leaf = ip.at(f"{side}-{family}-network") or ip.at(f"{side}-address")
        prefix = prefix_of(leaf)
        if prefix is not None:
            found[side] = prefix
    if not {"source", "destination"} & found.keys():
        # Without addresses the entry still is of one family: the whole of it.
        found["source"] = Said(FAMILIES[family], ip)
    protocol = ip.at("protocol")
    if protocol is not None:
        text = (protocol.value or "").rpartition(":")[2]
        known = {number: name for name, number in PROTOCOL_NUMBERS.items() if number in PORTED}
        text = NAMED_PROTOCOLS.get(text, text)
        if text.isdecimal():
            text = known.get(int(text), text)
        elif text not in PROTOCOL_NUMBERS:
            raise UnrepresentedError(f"the protocol {protocol.value} is not represented", protocol)
        found["protocol"] = Said(text, protocol)


def _read_port(found: Draft, ports: Statement, leaf: str, key: str) -> None:
    """A port: a number, a range, or a number with an operator (RFC 8519 section 4.1)."""
    said = ports.at(leaf)
    if said is None:
        return
    if said.value is not None:
        match = re.fullmatch(r"([0-9]+)\.\.([0-9]+)", said.value)
        if said.value.rpartition(":")[2] != "ANY":
            found[key] = [Said(f"{match[1]}-{match[2]}" if match else said.value, said)]
        return
    low, high = said.text("lower-port"), said.text("upper-port")
    if low is not None:
        found[key] = [Said(f"{low}-{high or low}", said)]
        return
    port, operator = said.text("port"), said.identity("operator") or "eq"
    if port is None or not port.isdecimal():
        raise UnrepresentedError(f"the condition {leaf} is not represented", said)
    number = int(port)
    ranges = {
        "eq": [(number, number)],
        "lte": [(0, number)],
        "gte": [(number, LAST_PORT)],
        "neq": [(0, number - 1), (number + 1, LAST_PORT)],
    }.get(operator)
    if ranges is None:
        raise UnrepresentedError(f"the operator {operator} is not represented", said)
    found[key] = [Said(f"{least}-{most}", said) for least, most in ranges if 0 <= least <= most]
