"""Network instances as OpenConfig models them: protocols, what they put into each other, steering, and AFTs."""

import re
from collections.abc import Iterable

from routrel.formats.models.bgp import read_bgp
from routrel.formats.models.draft import DeviceDraft, Draft, Said, is_accepting, prefix_of
from routrel.formats.models.ietf_routing import one_router_id
from routrel.formats.models.interfaces import openconfig_name
from routrel.formats.models.policies import SOURCES
from routrel.formats.models.statements import Statement
from routrel.model.routing import DEFAULT_INSTANCE, ROUTING_PROTOCOLS

LEVELS = {"LEVEL_1": "1", "LEVEL_2": "2", "LEVEL_1_2": "1-2"}
NETWORK_TYPES = {"BROADCAST_NETWORK": "broadcast", "POINT_TO_POINT_NETWORK": "point-to-point", "BROADCAST": "broadcast"}
NETWORK_TYPES |= {"POINT_TO_POINT": "point-to-point"}
VRF_TYPES = ("L3VRF", "DEFAULT_INSTANCE")


def read_network_instances(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``/openconfig-network-instance:network-instances``."""
    for name, entry in draft.keyed(top.entries("network-instance"), "name"):
        kind = entry.identity("type")
        if kind is not None and kind not in VRF_TYPES:
            draft.gap(f"a network instance of type {kind} is not represented", entry)
            entry.read_all()
            continue
        is_default = kind == "DEFAULT_INSTANCE" or name in ("default", "DEFAULT")
        _Instance(DEFAULT_INSTANCE if is_default else draft.fitting(name), entry, draft).read()


def read_vlans(entries: Iterable[Statement], draft: DeviceDraft) -> None:
    """The VLANs that a device lists."""
    for number, vlan in draft.keyed(entries, "vlan-id"):
        if vlan.text("status") == "SUSPENDED":
            draft.gap("a VLAN that is suspended is not represented", vlan)
        members = vlan.at("members")
        if members is not None:
            members.read_all()
        vlan.at("name")
        draft.vlans.append(Said(number, vlan))


class _Instance:
    """One routing instance while its protocols are read."""

    def __init__(self, name: str, entry: Statement, draft: DeviceDraft):
        self.name, self.entry, self.draft = name, entry, draft

    def read(self) -> None:
        if self.name != DEFAULT_INSTANCE:
            self.draft.begin(self.entry).inner("vrfs", self.entry).inner(self.name, self.entry)
        for own, one in self.draft.keyed(self.entry.entries("interfaces", "interface"), "id"):
            interface = openconfig_name(self.draft, one, own)
            if self.name == DEFAULT_INSTANCE:
                continue
            if interface in self.draft.interfaces():
                self.draft.interfaces()[interface]["vrf"] = Said(self.name, one)
            else:
                self.draft.dangling(Said(interface, one), "interface", self.draft.interfaces())
        self._note_idle()
        if (router_id := self.entry.at("router-id")) is not None:
            self.draft.routing(self.name, self.entry).put("router_id", router_id)
        protocols = self.entry.entries("protocols", "protocol")
        for _, protocol in self.draft.keyed(protocols, "identifier", "name"):
            self._read_protocol(protocol)
        self._read_connections()
        self._read_steering()
        self._read_afts()

    def _note_idle(self) -> None:
        """What is said of an instance and says itself elsewhere: its families, tables, VLANs by name."""
        self.entry.entries("enabled-address-families")
        for part in ("tables", "encapsulation"):
            if (said := self.entry.at(part)) is not None:
                said.read_all()
        read_vlans(self.entry.entries("vlans", "vlan"), self.draft)

    def _read_protocol(self, entry: Statement) -> None:
        if entry.is_false("enabled"):
            entry.read_all()
            return
        kind = entry.identity("identifier") or ""
        if kind == "STATIC":
            for _, route in self.draft.keyed(entry.entries("static-routes", "static"), "prefix"):
                self._read_static(route)
        elif kind in ("OSPF", "OSPF2", "OSPFV2"):
            self._read_ospf(entry, entry.at("ospfv2"), "2")
        elif kind in ("OSPF3", "OSPFV3"):
            self._read_ospf(entry, entry.at("ospfv3"), "3")
        elif kind == "ISIS":
            self._read_isis(entry.at("isis") or entry)
        elif kind == "BGP":
            read_bgp(entry.at("bgp") or entry, self.draft, self.name)
        elif kind == "LOCAL_AGGREGATE":
            for _, aggregate in self.draft.keyed(entry.entries("local-aggregates", "aggregate"), "prefix"):
                static = Draft(aggregate, prefix=prefix_of(aggregate.at("prefix")), action=Said("discard", aggregate))
                self._routing(aggregate).setdefault("static", []).append(static)
        elif kind != "DIRECTLY_CONNECTED":
            entry.read_all(is_left_out=True)
            self.draft.gap(f"a routing protocol of type {kind} is not represented", entry)

    def _routing(self, by: Statement) -> Draft:
        return self.draft.routing(self.name, by)

    def _read_static(self, route: Statement) -> None:
        tag = route.at("set-tag")
        for _, hop in self.draft.keyed(route.entries("next-hops", "next-hop"), "index"):
            static = Draft(hop, prefix=prefix_of(route.at("prefix")))
            said = hop.at("next-hop")
            word = (said.value or "").rpartition(":")[2] if said is not None else ""
            if word in ("DROP", "LOCAL_LINK") and said is not None:
                if word == "DROP":
                    static.put("action", said, "discard")
            elif said is not None:
                static.put("next_hop", said)
            if hop.text("interface-ref", "interface") is not None:
                static["interface"] = Said(openconfig_name(self.draft, hop, ""), hop)
            if hop.is_false("recurse"):
                self.draft.gap("a static route whose next hop is not looked up is not represented", hop)
            static.put("metric", hop.at("metric"))
            static.put("preference", hop.at("preference"))
            static.put("tag", tag)
            self._routing(route).setdefault("static", []).append(static)

    def _read_ospf(self, entry: Statement, ospf: Statement | None, version: str) -> None:
        if ospf is None:
            return
        routing = self._routing(entry)
        process = self.draft.ospf_process(routing, self.draft.fitting(entry.text("name") or "default"), version, entry)
        own_id = ospf.at("global", "router-id")
        if own_id is not None:
            one_router_id(routing, own_id, self.draft)
        mode = ospf.at("global", "summary-route-cost-mode")
        if mode is not None and (mode.value or "").startswith("RFC1583"):
            self.draft.gap("compatibility with RFC 1583 (RFC 2328 section 16.4.1) is not represented", mode)
        stub = ospf.at("global", "timers", "max-metric")
        if stub is not None:
            if stub.is_true("set"):
                self.draft.gap("an OSPF router that tells the highest metric (RFC 6987) is not represented", stub)
            stub.read_all()
        areas = process.inner("areas", ospf)
        for number, area in self.draft.keyed(ospf.entries("areas", "area"), "identifier"):
            found = areas.inner(number, area)
            for own, one in self.draft.keyed(area.entries("interfaces", "interface"), "id"):
                name = openconfig_name(self.draft, one, own)
                if one.is_false("enabled"):
                    one.read_all()
                    continue
                port = found.inner("interfaces", area).inner(name, one)
                for leaf, key in (("metric", "cost"), ("passive", "passive"), ("priority", "priority")):
                    port.put(key, one.at(leaf))
                self._read_network_type(port, one.at("network-type"), name)
                for heard in one.entries("neighbors", "neighbor"):
                    state = heard.text("adjacency-state")
                    self.draft.saw_neighbor("ospf", heard, heard.text("router-id"), state, name, self.name)

    def _read_network_type(self, port: Draft, kind: Statement | None, name: str) -> None:
        if kind is None:
            return
        word = NETWORK_TYPES.get((kind.value or "").rpartition(":")[2])
        if word is not None:
            port.put("network", kind, word)
        else:
            self.draft.gap(f"an interface of network type {kind.value} is not represented", kind, name)

    def _read_isis(self, isis: Statement) -> None:
        process = self._routing(isis).inner("isis", isis)
        titles = isis.entries("global", "net")
        if titles:
            process.put("net", titles[0])
        for other in titles[1:]:
            self.draft.gap("a second network entity title is not represented", other)
        level = isis.at("global", "level-capability")
        process.put("level", level, LEVELS.get(level.value or "", level.value) if level is not None else None)
        process.put("multipath", isis.at("global", "max-ecmp-paths"))
        isis.at("global", "instance")
        for family in isis.entries("global", "afi-safi", "af"):
            self._read_isis_family(family)
        for number, one in self.draft.keyed(isis.entries("levels", "level"), "level-number"):
            style = one.at("metric-style")
            if style is not None:
                process.put("wide_metrics", style, "false" if style.value == "NARROW_METRIC" else "true")
            if one.is_false("enabled"):
                process["level"] = Said("2" if number == "1" else "1", one)
            for kind in ("internal", "external"):
                self._read_isis_preference(one.at("route-preference", f"{kind}-route-preference"), isis)
        for own, one in self.draft.keyed(isis.entries("interfaces", "interface"), "interface-id"):
            name = openconfig_name(self.draft, one, own)
            if one.is_false("enabled"):
                one.read_all()
                continue
            port = process.inner("interfaces", isis).inner(name, one)
            port.put("passive", one.at("passive"))
            self._read_network_type(port, one.at("circuit-type"), name)
            self._read_levels(port, one, name)

    def _read_levels(self, port: Draft, one: Statement, name: str) -> None:
        """The level and metric of an IS-IS interface: one metric serves both levels and families."""
        enabled, passive, metrics = [], [], []
        for family in one.entries("afi-safi", "af"):
            self._read_isis_family(family, name)
        for number, level in self.draft.keyed(one.entries("levels", "level"), "level-number"):
            if level.is_false("enabled"):
                level.read_all()
                continue
            enabled.append((number, level))
            level.at("priority")
            if level.is_true("passive"):
                passive.append((number, level))
            for heard in level.entries("adjacencies", "adjacency"):
                state = heard.text("adjacency-state")
                self.draft.saw_neighbor("isis", heard, heard.text("system-id"), state, name, self.name)
            for family in level.entries("afi-safi", "af"):
                self._read_isis_family(family, name)
                metric = family.at("metric")
                metrics += [metric] if metric is not None else []
        if len(enabled) == 1:
            port["level"] = Said(*enabled[0])
        if passive and len(passive) == len(enabled):
            port["passive"] = Said("true", passive[0][1])
        elif passive:
            self.draft.gap("an interface that is passive in one level of IS-IS alone is not represented", one, name)
        if metrics:
            port.put("metric", metrics[0])
        if len({leaf.value for leaf in metrics}) > 1:
            self.draft.gap(
                "metrics of an interface that differ by level or family are not represented", metrics[1], name
            )

    def _read_isis_preference(self, said: Statement | None, isis: Statement) -> None:
        if said is None:
            return
        known = self._routing(isis).inner("preferences", isis)
        if "isis" not in known:
            known.put("isis", said)
        elif known["isis"].text != said.value:
            self.draft.gap("a preference for some routes of IS-IS alone is not represented", said)

    def _read_isis_family(self, family: Statement, name: str = "") -> None:
        word = family.identity("afi-name") or ""
        family.at("safi-name")
        if family.is_false("enabled"):
            self.draft.gap(f"IS-IS without {word} is not represented: it is shown for all families", family, name)

    def _read_connections(self) -> None:
        """Table connections: what a protocol takes over from another."""
        done: set[tuple[str, str]] = set()
        entries = self.entry.entries("table-connections", "table-connection")
        keys = ("src-protocol", "dst-protocol", "address-family")
        for _, one in self.draft.keyed(entries, *keys):
            source = SOURCES.get(one.identity("src-protocol") or "")
            target = SOURCES.get(one.identity("dst-protocol") or "")
            process = self._routing(one).get(target or "")
            if source is None or target not in ROUTING_PROTOCOLS or process is None:
                one.read_all(is_left_out=True)
                self.draft.gap("a table connection of such protocols is not represented", one)
                continue
            names, default = one.entries("import-policy"), one.at("default-import-policy")
            if not names and (default is None or not is_accepting(default)):
                continue  # what no policy takes is rejected, unless it is said otherwise
            policy = self.draft.chain(names, default)
            found = Draft(one)
            found["from"] = Said(source, one)
            if policy is not None:
                found["policy"] = policy
            for into in process if isinstance(process, list) else [process]:
                if (source, target) not in done:
                    into.setdefault("redistribute", []).append(found)
            done.add((source, target))

    def _read_steering(self) -> None:
        """Policy forwarding: rules by sequence, and the interfaces they stand on."""
        for name, policy in self.draft.keyed(
            self.entry.entries("policy-forwarding", "policies", "policy"), "policy-id"
        ):
            entries = []
            rules = [rule for _, rule in self.draft.keyed(policy.entries("rules", "rule"), "sequence-id")]
            rules.sort(key=lambda one: int(text) if (text := one.text("sequence-id") or "0").isdecimal() else 0)
            policy.at("type")
            for rule in rules:
                entry = _steering_entry(rule)
                if entry is None:
                    rule.read_all(is_left_out=True)
                    self.draft.gap("a rule of policy forwarding is not represented", rule)
                else:
                    entries.append(entry)
            self.draft.begin(policy).inner("forwarding_policies", policy)[self.draft.fitting(name)] = entries
        points = self.entry.entries("policy-forwarding", "interfaces", "interface")
        for own, one in self.draft.keyed(points, "interface-id"):
            interface, policy_name = openconfig_name(self.draft, one, own), one.at("apply-forwarding-policy")
            if policy_name is None:
                continue
            if interface in self.draft.interfaces():
                said = self.draft.fitting(policy_name.value or "")
                self.draft.interfaces()[interface].put("forwarding_policy", policy_name, said)
            else:
                self.draft.dangling(Said(interface, one), "interface", self.draft.interfaces())

    def _read_afts(self) -> None:
        """Forwarding tables: entries lead by groups to next hops (openconfig-aft)."""
        afts = self.entry.at("afts")
        if afts is None:
            return
        hops = dict(self.draft.keyed(afts.entries("next-hops", "next-hop"), "index"))
        groups = dict(self.draft.keyed(afts.entries("next-hop-groups", "next-hop-group"), "id"))
        found_hops = {index: self._aft_hop(hop) for index, hop in hops.items()}
        members = {
            own: [index for index, _ in self.draft.keyed(group.entries("next-hops", "next-hop"), "index")]
            for own, group in groups.items()
        }
        for path in (("ipv4-unicast", "ipv4-entry"), ("ipv6-unicast", "ipv6-entry")):
            for _, entry in self.draft.keyed(afts.entries(*path), "prefix"):
                own = entry.text("next-hop-group") or ""
                route = Draft(entry, prefix=prefix_of(entry.at("prefix")))
                protocol = SOURCES.get((entry.identity("origin-protocol") or ""), "observed")
                route["protocol"] = Said(protocol, entry)
                ways = [found_hops[index] for index in members.get(own, ()) if index in found_hops]
                if own not in members:
                    self.draft.gap("a forwarding entry without its next hop group is not represented", entry)
                    continue
                leading = [way for way in ways if way]
                if leading:
                    route["next_hops"] = leading
                else:
                    route["action"] = Said("discard", entry)
                if self.name != DEFAULT_INSTANCE:
                    route["vrf"] = Said(self.name, entry)
                self.draft.listed("observed", route)

    def _aft_hop(self, hop: Statement) -> Draft:
        found = Draft(hop)
        found.put("address", hop.at("ip-address"))
        if hop.text("interface-ref", "interface") is not None:
            found["interface"] = Said(openconfig_name(self.draft, hop, ""), hop)
        return found


def _steering_entry(rule: Statement) -> Draft | None:
    """A rule of policy forwarding; None where it asks or does what the model does not know."""
    match = Draft(rule)
    for family in ("ipv4", "ipv6"):
        ip = rule.at(family)
        if ip is None:
            continue
        for side in ("source", "destination"):
            prefix = prefix_of(ip.at(f"{side}-address"))
            if prefix is not None:
                match[side] = prefix
        protocol = ip.identity("protocol")
        if protocol is not None:
            named = {"IP_TCP": "tcp", "IP_UDP": "udp", "IP_ICMP": "icmp", "6": "tcp", "17": "udp", "1": "icmp"}
            if protocol not in named:
                return None
            match["protocol"] = Said(named[protocol], ip)
    for side in ("source", "destination"):
        port = rule.text("transport", f"{side}-port")
        if port is not None and port.rpartition(":")[2] != "ANY":
            match[f"{side}_ports"] = [Said(re.sub(r"\.\.", "-", port), rule)]
    entry = Draft(rule)
    if match:
        entry["match"] = match
    action = rule.at("action")
    hop = action.at("next-hop") if action is not None else None
    if hop is not None:
        entry["next_hop"] = Said(hop.value or "", hop)
        entry["action"] = Said("forward", hop)
    elif action is not None and action.is_true("discard"):
        entry["action"] = Said("discard", action)
    else:
        return None
    is_whole = all(leaf.is_read for leaf in rule.leaves() if leaf.name not in ("sequence-id", "description"))
    return entry if is_whole else None


def lldp_neighbors(top: Statement, draft: DeviceDraft) -> Iterable[tuple[str, str, str, Statement]]:
    """(interface, system name, its port, statement) of the tree ``/openconfig-lldp:lldp``."""
    for name, interface in draft.keyed(top.entries("interfaces", "interface"), "name"):
        for neighbor in interface.entries("neighbors", "neighbor"):
            system, port = neighbor.text("system-name"), neighbor.text("port-id")
            neighbor.read_all()
            if system and port:
                yield name, system, port, neighbor
