"""BGP: the IETF's model as far as published and OpenConfig's, which it began as, share their shape.

What a neighbour does not say itself its peer group says.
"""

from routrel.formats.models.draft import DeviceDraft, Draft, Said, address_of
from routrel.formats.models.statements import Statement
from routrel.model.addresses import Address

FAMILIES = {"ipv4-unicast": "ipv4", "ipv6-unicast": "ipv6", "IPV4_UNICAST": "ipv4", "IPV6_UNICAST": "ipv6"}
INTERNAL, EXTERNAL = ("internal", "INTERNAL"), ("external", "EXTERNAL")
Path = tuple[str, ...]


def read_bgp(bgp: Statement, draft: DeviceDraft, instance: str) -> None:
    """The container ``bgp`` of either model."""
    routing = draft.routing(instance, bgp)
    process = routing.inner("bgp", bgp)
    own = bgp.at("global", "as")
    process.put("as", own)
    draft.own_as = draft.own_as or own
    process.put("router_id", bgp.at("global", "router-id") or bgp.at("global", "identifier"))
    for part in (bgp.at("global"), *_families(bgp.at("global"))):
        if part is not None:
            _read_decision(process, part)
            _read_multipath(process, part, draft)
    _read_preferences(routing, bgp)
    number = own.value if own is not None else None
    listed = _entries(bgp, "peer-groups", "peer-group")
    groups = dict(draft.keyed(listed, _key_of(listed, "peer-group-name", "name")))
    neighbors = _entries(bgp, "neighbors", "neighbor")
    for address, entry in draft.keyed(neighbors, _key_of(neighbors, "neighbor-address", "remote-address")):
        group = groups.get(entry.text("peer-group") or "")
        _Neighbor(entry, group, draft, number, instance).read(process, address)


def _key_of(entries: list[Statement], ours: str, other: str) -> str:
    """The key of a list, which the two models name differently."""
    return ours if any(one.text(ours) for one in entries) else other


def _entries(bgp: Statement, *path: str) -> list[Statement]:
    return bgp.entries(*path) or bgp.entries(path[-1])


def _families(entry: Statement | None) -> list[Statement]:
    """The address families that a speaker, a group or a neighbour lists, by name."""
    if entry is None:
        return []
    listed = entry.entries("afi-safis", "afi-safi") or entry.entries("afi-safi")
    for one in listed:
        one.at("afi-safi-name"), one.at("name"), one.at("enabled")
    return listed


def _read_decision(process: Draft, part: Statement) -> None:
    options = part.at("route-selection-options")
    if options is None:
        return
    switches: Draft = process.get("decision", Draft(options))
    for leaf, key in (
        ("always-compare-med", "compare_med_between_as"),
        ("ignore-as-path-length", "ignore_as_path_length"),
    ):
        switches.put(key, options.at(leaf))
    identifier = options.at("external-compare-router-id")
    if identifier is not None:
        switches.put("prefer_oldest", identifier, "false" if identifier.value == "true" else "true")
    if switches:
        process["decision"] = switches


def _read_multipath(process: Draft, part: Statement, draft: DeviceDraft) -> None:
    """How many paths a table takes, which the model has once for all families."""
    paths = part.at("use-multiple-paths")
    if paths is None or paths.is_false("enabled"):
        return
    for kind in ("ebgp", "ibgp"):
        most = paths.at(kind, "maximum-paths")
        if most is not None and most.value:
            known = process.inner("multipath", paths)
            if kind in known and known[kind].text != most.value:
                draft.gap("a second number of paths in BGP, for some families alone, is not represented", most)
            known.setdefault(kind, Said(most.value, most))


def _read_preferences(routing: Draft, bgp: Statement) -> None:
    for leaf, name in (("external-route-distance", "ebgp"), ("internal-route-distance", "ibgp")):
        said = bgp.at("global", "default-route-distance", leaf)
        if said is not None:
            routing.inner("preferences", bgp).put(name, said)


class _Neighbor:
    """One session: each thing is said by the neighbour, else by its group."""

    def __init__(self, entry: Statement, group: Statement | None, draft: DeviceDraft, own: str | None, instance: str):
        self.entry, self.group, self.draft, self.own, self.instance = entry, group, draft, own, instance

    def said(self, *path: str) -> Statement | None:
        ours = self.entry.at(*path)
        theirs = self.group.at(*path) if self.group is not None else None
        return ours if ours is not None else theirs

    def read(self, process: Draft, address: str) -> None:
        found = process.inner("neighbors", self.entry).inner(address.partition("%")[0], self.entry)
        peer = self.said("peer-as")
        kind = self.said("peer-type")
        if peer is not None:
            found.put("as", peer)
        elif kind is not None and kind.value in INTERNAL and self.own is not None:
            found.put("as", kind, self.own)
        description = self.said("description")
        if description is not None and description.value:
            found.put("description", description)
        found.put("enabled", self.said("enabled"))
        state = self.entry.at("session-state")
        if state is not None:
            self.draft.saw_neighbor("bgp", state, address, state.value, "", self.instance)
        self._read_local(found)
        if (hops := self.said("ebgp-multihop", "multihop-ttl")) is not None:
            is_on = self.said("ebgp-multihop", "enabled")
            if is_on is None or is_on.value != "false":
                found.put("multihop", hops)
        client = self.said("route-reflector", "route-reflector-client") or self.said("route-reflector", "client")
        found.put("route_reflector_client", client)
        cluster = self.said("route-reflector", "route-reflector-cluster-id") or self.said(
            "route-reflector", "cluster-id"
        )
        if cluster is not None and cluster.value:
            text = str(Address(4, int(cluster.value))) if cluster.value.isdecimal() else cluster.value
            process.put("cluster_id", cluster, text)
        found.put("allow_own_as", self.said("as-path-options", "allow-own-as"))
        private = self.said("remove-private-as")
        if private is not None:
            found.put("remove_private_as", private, "true")
        self._read_policies(found)
        self._read_families(found, address)

    def _read_local(self, found: Draft) -> None:
        """The end spoken from: an address, or an interface by name."""
        local = self.said("transport", "local-address")
        if local is None or not local.value:
            return
        try:
            Address.parse(local.value)
            found["local_address"] = address_of(local)
        except ValueError:
            found.put("update_source", local)

    def _read_policies(self, found: Draft) -> None:
        for direction in ("import", "export"):
            chain = [
                node.entries("apply-policy", f"{direction}-policy")
                for node in (self.entry, self.group)
                if node is not None
            ]
            policy = self.draft.chain(
                next(filter(None, chain), []), self.said("apply-policy", f"default-{direction}-policy")
            )
            if policy is not None:
                found[direction] = policy

    def _read_families(self, found: Draft, address: str) -> None:
        families: dict[str, Said] = {}
        listed: dict[str, Statement] = {}
        for family in (*_families(self.entry), *_families(self.group)):
            listed.setdefault(family.identity("afi-safi-name") or family.identity("name") or "", family)
        for name, family in listed.items():
            word = FAMILIES.get(name)
            if family.is_false("enabled"):
                family.read_all()
                continue
            if word is None:
                self.draft.gap(f"routes of family {name} in BGP are not represented", family)
                family.read_all(is_left_out=True)
                continue
            families.setdefault(word, Said(word, family))
            self._of_family(found, family)
        if listed and set(families) != {"ipv6" if ":" in address else "ipv4"}:
            found["families"] = list(families.values())

    def _of_family(self, found: Draft, family: Statement) -> None:
        """What is said for one family holds for the session, which is not told by families here."""
        for direction in ("import", "export"):
            chain = family.entries("apply-policy", f"{direction}-policy")
            policy = self.draft.chain(chain, family.at("apply-policy", f"default-{direction}-policy"))
            if policy is not None and found.setdefault(direction, policy).text != policy.text:
                self.draft.gap(f"a second {direction} policy of a session is not represented", policy.by)
        for path, key in (
            (("next-hop-self",), "next_hop_self"),
            (("ipv4-unicast", "send-default-route"), "originate_default"),
            (("ipv6-unicast", "send-default-route"), "originate_default"),
            (("send-default-route",), "originate_default"),
        ):
            said = family.at(*path)
            if said is not None and said.value:
                found.put(key, said)
