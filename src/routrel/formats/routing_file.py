"""The routing part of a device's text: policies and routing instances, names checked."""

from collections.abc import Mapping
from typing import Any

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.grammar import Items, Record, entries_of, items_of
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.bgp import Bgp, BgpAggregate, BgpDecision, BgpNeighbor
from routrel.model.devices import Interface
from routrel.model.places import Place
from routrel.model.policies import (
    AsPathMatch,
    CommunityChange,
    CommunityMatch,
    Policy,
    PolicyMatch,
    PolicySet,
    PolicyStatement,
    PrefixMatch,
    Prepend,
)
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE, PathAttributes, ReceivedPaths
from routrel.model.redistribution import OriginateDefault, Redistribution
from routrel.model.routing import (
    DEFAULT_INSTANCE,
    Eigrp,
    EigrpDistance,
    EigrpInterface,
    Isis,
    IsisInterface,
    Leak,
    Ospf,
    OspfArea,
    OspfInterface,
    OspfRange,
    Rip,
    RipInterface,
    RoutingInstance,
    StaticRoute,
)

BACKBONE = 0
NARROW_METRIC = 63
"""The highest metric an interface can have without wide metrics (RFC 1195 section 5.3.1)."""


class RoutingReader:
    """Reads the routing of one device; notes every name that names nothing."""

    def __init__(self, errors: ErrorList, device: Record, interfaces: Mapping[str, Interface]):
        self.errors = errors
        self.interfaces = interfaces
        self.sets = {
            name: tuple(self._prefix_match(value, at) for value, at in items_of(items))
            for name, items, _ in entries_of(device.get("prefix_sets"))
        }
        self.policies = {
            name: Policy(name, tuple(self._statement(value, at) for value, at in items_of(items)), place)
            for name, items, place in entries_of(device.get("policies"))
        }

    def _prefix_match(self, value: Prefix | Record, place: Place) -> PrefixMatch:
        if isinstance(value, Prefix):
            return PrefixMatch(value, value.length, value.length)
        prefix: Prefix = value["prefix"]
        bits = BITS[prefix.family]
        low = value.get("min_length", prefix.length)
        high = value.get("max_length", bits if "min_length" in value else prefix.length)
        if not prefix.length <= low <= high <= bits:
            self.errors.add(
                place,
                "these lengths match no prefix",
                found=f"{prefix}, {low} to {high}",
                allowed=f"{prefix.length} <= min_length <= max_length <= {bits}",
            )
        return PrefixMatch(prefix, low, high)

    def _statement(self, record: Record, place: Place) -> PolicyStatement:
        match = self._match(record["match"]) if "match" in record else PolicyMatch()
        sets = _set_of(record["set"]) if "set" in record else PolicySet()
        if sets.next_hop is not None and sets.next_hop_self is not None:
            at = record["set"].place_of("next_hop_self")
            self.errors.add(at, "'next_hop' and 'next_hop_self' set the same", allowed="one of both")
        return record.into(PolicyStatement, match=match, set=sets, place=place)

    def _match(self, record: Record) -> PolicyMatch:
        prefixes: tuple[PrefixMatch, ...] | None = None
        if "prefixes" in record:
            value = record["prefixes"]
            if isinstance(value, Items):
                prefixes = tuple(self._prefix_match(item, at) for item, at in items_of(value))
            elif value in self.sets:
                prefixes = self.sets[value]
            else:
                self.errors.dangling(record.place_of("prefixes"), "prefix set", value, self.sets)
        return record.into(
            PolicyMatch,
            prefixes=prefixes,
            protocols=_one_or_more(record.get("protocol")),
            next_hops=_one_or_more(record.get("next_hop")),
            neighbors=_one_or_more(record.get("neighbor")),
            as_path=_as_path(record.get("as_path")),
            communities=_communities(record.get("communities")),
        )

    def instance(self, record: Record, vrf: str) -> RoutingInstance:
        """A routing instance; only interfaces bound to ``vrf`` may stand in it."""
        own = {name: interface for name, interface in self.interfaces.items() if interface.vrf == vrf}
        if "install_policy" in record:
            self._policy(record, "install_policy")
        readers = {"isis": self._isis, "rip": self._rip, "eigrp": self._eigrp, "bgp": self._bgp}
        return record.into(
            RoutingInstance,
            preferences=dict(record["preferences"].values) if "preferences" in record else {},
            static=tuple(self._static(value, place, own) for value, place in items_of(record.get("static"))),
            ospf=self._ospf_instances(record, own),
            place=record.place,
            **{name: reader(record[name], own) for name, reader in readers.items() if name in record},
        )

    def _known(self, name: str, place: Place, interfaces: Mapping[str, Interface]) -> bool:
        """Whether an interface can stand in this instance."""
        if name in interfaces:
            return True
        other = self.interfaces.get(name)
        if other is None:
            self.errors.dangling(place, "interface", name, interfaces)
        else:
            where = "the default instance" if other.vrf == DEFAULT_INSTANCE else f"VRF {other.vrf}"
            self.errors.add(place, f"this interface belongs to {where}", found=quoted(name))
        return False

    def _policy(self, record: Record, key: str) -> None:
        if record[key] not in self.policies:
            self.errors.dangling(record.place_of(key), "policy", record[key], self.policies)

    def _redistribute(self, record: Record, protocol: str, several: bool = False) -> tuple[Redistribution, ...]:
        found: list[Redistribution] = []
        for value, place in items_of(record.get("redistribute")):
            source = value["from"]
            if source == protocol and not several:
                self.errors.add(value.place_of("from"), f"{protocol} cannot redistribute its own routes")
            if "policy" in value:
                self._policy(value, "policy")
            if any(other.source == source for other in found):
                self.errors.add(
                    value.place_of("from"), f"{source} stands twice in this list", allowed="once, with one policy"
                )
            found.append(value.into(Redistribution, source=source, place=place))
        return tuple(found)

    def _static(self, record: Record, place: Place, interfaces: Mapping[str, Interface]) -> StaticRoute:
        action = record.get("action", "forward")
        next_hop, interface = record.get("next_hop"), record.get("interface")
        if interface is not None:
            self._known(interface, record.place_of("interface"), interfaces)
        if action == "forward" and next_hop is None and interface is None:
            self.errors.add(place, "a static route leads nowhere", allowed="next_hop, interface, or action: discard")
        if action != "forward" and (next_hop is not None or interface is not None):
            self.errors.add(place, f"a route that is to {action} takes no next hop and no interface")
        prefix = record["prefix"]
        if next_hop is not None and next_hop.family != prefix.family:
            self.errors.add(record.place_of("next_hop"), "next hop and prefix are of different families")
        return record.into(StaticRoute, place=place)

    def _ospf_instances(self, record: Record, interfaces: Mapping[str, Interface]) -> tuple[Ospf, ...]:
        value = record.get("ospf")
        records = [(value, record.place_of("ospf"))] if isinstance(value, Record) else items_of(value)
        versions = [int(item.get("version", 2)) for item, _ in records]
        instances: dict[str, Ospf] = {}
        taken: dict[tuple[int, str], str] = {}
        for (item, place), version in zip(records, versions, strict=True):
            ospf = self._ospf(item, version, versions.count(version) > 1, interfaces)
            if ospf.name in instances:
                at = item.place_of("instance") if "instance" in item else place
                self.errors.add(at, "two OSPF instances have one name", found=quoted(ospf.name), allowed="a name each")
            for area in ospf.areas:
                for settings in area.interfaces:
                    other = taken.setdefault((version, settings.name), ospf.name)
                    if other != ospf.name:
                        self.errors.add(
                            settings.place,
                            f"the interface already stands in instance {other} of OSPF version {version}",
                            found=quoted(settings.name),
                        )
            instances[ospf.name] = ospf
        return tuple(instances.values())

    def _ospf(self, record: Record, version: int, several: bool, interfaces: Mapping[str, Interface]) -> Ospf:
        seen: set[str] = set()
        areas = tuple(
            self._area(int(number), area, place, version, interfaces, seen)
            for number, area, place in entries_of(record.get("areas"))
        )
        default = None
        if "originate_default" in record:
            default = record["originate_default"].into(OriginateDefault, place=record.place_of("originate_default"))
        return record.into(
            Ospf,
            areas=areas,
            place=record.place,
            name=record.get("instance", DEFAULT_INSTANCE),
            version=version,
            redistribute=self._redistribute(record, "ospf", several),
            originate_default=default,
        )

    def _area(
        self,
        number: int,
        area: Record,
        place: Place,
        version: int,
        interfaces: Mapping[str, Interface],
        seen: set[str],
    ) -> OspfArea:
        members = []
        for name, value, at in entries_of(area.get("interfaces")):
            if not self._known(name, at, interfaces):
                continue
            if value.get("cost") == 0 and not interfaces[name].is_loopback:
                self.errors.add(value.place_of("cost"), "only a loopback costs 0", found="0", allowed="1 to 65535")
            elif name in seen:
                self.errors.add(at, "the interface already stands in another area", found=quoted(name))
            seen.add(name)
            members.append(value.into(OspfInterface, name=name, place=at))
        family = 4 if version == 2 else 6
        ranges = []
        for value, at in items_of(area.get("ranges")):
            if value["prefix"].family != family:
                self.errors.add(value.place_of("prefix"), f"OSPF version {version} has IPv{family} ranges only")
            ranges.append(value.into(OspfRange, place=at))
        kind = area.get("type", "normal")
        if kind != "normal" and number == BACKBONE:
            self.errors.add(area.place_of("type"), f"the backbone area cannot be of type {kind}", allowed="normal")
        for key in ("no_summary", "default_cost"):
            if kind == "normal" and key in area:
                self.errors.add(area.place_of(key), f"{key!r} belongs to areas of type stub and nssa")
        return area.into(OspfArea, number=number, interfaces=tuple(members), ranges=tuple(ranges), place=place)

    def _isis(self, record: Record, interfaces: Mapping[str, Interface]) -> Isis:
        levels = _levels(record.get("level", "1-2"))
        wide = record.get("wide_metrics", True)
        members = []
        for name, value, at in entries_of(record.get("interfaces")):
            if not self._known(name, at, interfaces):
                continue
            metric = value.get("metric", 10)
            if not wide and metric > NARROW_METRIC:
                self.errors.add(
                    value.place_of("metric"), "the metric needs wide metrics", found=str(metric), allowed="0 to 63"
                )
            if metric == 0 and not interfaces[name].is_loopback:
                self.errors.add(value.place_of("metric"), "only a loopback has metric 0", found="0", allowed="1 and up")
            own = _levels(value.get("level", "1-2"))
            both = tuple(level for level in levels if level in own)
            if not both:
                self.errors.add(value.place_of("level"), f"the router is not of level {own[0]}")
            members.append(value.into(IsisInterface, name=name, levels=both, place=at))
        leak = None
        if "leak" in record:
            leak = Leak(record["leak"].get("policy"), record.place_of("leak"))
            if leak.policy is not None:
                self._policy(record["leak"], "policy")
            if levels != (1, 2):
                self.errors.add(leak.place, "only a router of level 1-2 can leak")
        area, system = record["net"]
        return record.into(
            Isis,
            area=area,
            system=system,
            levels=levels,
            interfaces=tuple(members),
            redistribute=self._redistribute(record, "isis"),
            leak=leak,
            place=record.place,
        )

    def _rip(self, record: Record, interfaces: Mapping[str, Interface]) -> Rip:
        members = tuple(
            value.into(RipInterface, name=name, place=at)
            for name, value, at in entries_of(record.get("interfaces"))
            if self._known(name, at, interfaces)
        )
        return record.into(Rip, interfaces=members, redistribute=self._redistribute(record, "rip"), place=record.place)

    def _bgp(self, record: Record, interfaces: Mapping[str, Interface]) -> Bgp:
        multipath, switches = record.get("multipath"), record.get("decision")
        decision = BgpDecision()
        if switches is not None:
            values = {key: value for key, value in switches.values.items() if key != "missing_med"}
            decision = BgpDecision(missing_med_is_worst=switches.get("missing_med") == "worst", **values)
        return Bgp(
            record["as"],
            record.get("router_id"),
            record.get("cluster_id"),
            tuple(items_of(record.get("networks"))),
            tuple(value.into(BgpAggregate, place=at) for value, at in items_of(record.get("aggregates"))),
            self._redistribute(record, "bgp"),
            multipath.get("ebgp", 1) if multipath else 1,
            multipath.get("ibgp", 1) if multipath else 1,
            decision,
            tuple(
                self._neighbor(address, value, at, record["as"], interfaces)
                for address, value, at in entries_of(record.get("neighbors"))
            ),
            record.get("require_policies", False),
            record.get("announce_unused", False),
            record.place,
        )

    def _neighbor(
        self, address: Address, record: Record, place: Place, own: int, interfaces: Mapping[str, Interface]
    ) -> BgpNeighbor:
        source, local = record.get("update_source"), record.get("local_address")
        at_source = record.place_of("update_source")
        if source is not None and self._known(source, at_source, interfaces):
            own_addresses = [one.address for one in interfaces[source].addresses]
            if not any(one.family == address.family for one in own_addresses):
                self.errors.add(at_source, f"{source} has no IPv{address.family} address", found=quoted(source))
            elif local is not None and local not in own_addresses:
                self.errors.add(record.place_of("local_address"), f"this is no address of {source}", found=str(local))
        elif local is not None:
            known = [str(one.address) for each in interfaces.values() for one in each.addresses]
            if str(local) not in known:
                self.errors.dangling(record.place_of("local_address"), "own address", str(local), known)
        for key in ("import", "export"):
            if key in record:
                self._policy(record, key)
        if record.get("route_reflector_client") and record["as"] != own:
            self.errors.add(
                record.place_of("route_reflector_client"),
                "only a neighbor of the same AS can be a client",
                found=f"AS {record['as']}",
                allowed=f"AS {own}",
            )
        return record.into(
            BgpNeighbor,
            address=address,
            number=record["as"],
            import_policy=record.get("import"),
            export_policy=record.get("export"),
            families=tuple(int(family[-1]) for family in _listed(record["families"])) if "families" in record else None,
            received=self._received(record, address, own),
            withdrawn=_listed(record.get("withdrawn")),
            place=place,
        )

    def _received(self, record: Record, neighbor: Address, own: int) -> tuple[ReceivedPaths, ...]:
        """What a neighbour outside the network says."""
        if "received" not in record:
            return ()
        found: dict[Prefix, tuple[PathAttributes, Place]] = {}
        implied = () if record["as"] == own else (record["as"],)
        for value, at in items_of(record["received"]):
            prefix = value["prefix"]
            if prefix in found:
                self.errors.add(at, "the neighbor has a path for this prefix already", found=str(prefix))
            next_hop = value.get("next_hop") or (neighbor if neighbor.family == prefix.family else None)
            if next_hop is None or next_hop.family != prefix.family:
                allowed = f"an IPv{prefix.family} address"
                self.errors.add(at, "the path needs a next hop of its family", found=str(next_hop), allowed=allowed)
            attributes = PathAttributes(
                _listed(value.get("as_path")) or implied,
                value.get("origin", "igp"),
                value.get("med"),
                value.get("local_preference", DEFAULT_LOCAL_PREFERENCE),
                frozenset(_listed(value.get("communities"))),
                next_hop,
            )
            found[prefix] = attributes, at
        paths = ((prefix, attributes, at) for prefix, (attributes, at) in found.items())
        return (ReceivedPaths.of(paths, record.place.file),)

    def _eigrp(self, record: Record, interfaces: Mapping[str, Interface]) -> Eigrp:
        members = tuple(
            value.into(EigrpInterface, name=name, place=at)
            for name, value, at in entries_of(record.get("interfaces"))
            if self._known(name, at, interfaces)
        )
        distances = tuple(
            value.into(EigrpDistance, prefixes=_listed(value.get("prefixes")), place=at)
            for value, at in items_of(record.get("distance"))
        )
        return record.into(
            Eigrp,
            number=record["as"],
            interfaces=members,
            redistribute=self._redistribute(record, "eigrp"),
            distances=distances,
            place=record.place,
        )


def _as_path(value: Any) -> AsPathMatch | None:
    if value is None:
        return None
    return AsPathMatch(**value.values) if isinstance(value, Record) else AsPathMatch(pattern=value)


def _communities(value: Any) -> CommunityMatch | None:
    if isinstance(value, Record):
        return CommunityMatch(_listed(value["all"]), True)
    several = _one_or_more(value)
    return None if several is None else CommunityMatch(several)


def _listed(value: Items | None) -> tuple[Any, ...]:
    return tuple(item for item, _ in items_of(value))


def _set_of(record: Record) -> PolicySet:
    values = dict(record.values)
    if "as_path_prepend" in record:
        prepend = record["as_path_prepend"]
        values["as_path_prepend"] = Prepend(prepend["as"], prepend.get("times", 1))
    if "communities" in record:
        change = record["communities"]
        values["communities"] = CommunityChange(
            _listed(change.get("add")),
            _listed(change.get("remove")),
            _listed(change["replace"]) if "replace" in change else None,
        )
    if not record.get("next_hop_self", True):
        del values["next_hop_self"]  # it changes nothing
    return PolicySet(**values)


def _levels(word: str) -> tuple[int, ...]:
    return {"1": (1,), "2": (2,)}.get(word, (1, 2))


def _one_or_more(value: Any) -> tuple[Any, ...] | None:
    """A scalar or a list as a tuple; None where the key is absent."""
    if value is None:
        return None
    return tuple(item for item, _ in items_of(value)) if isinstance(value, Items) else (value,)
