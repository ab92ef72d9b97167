"""Evidence: for each stop of a walk, every check in the order a packet meets it, with its source lines.

Derived after the walk, for the answer that is shown; the walk itself keeps numbers only.
"""

from collections.abc import Iterable, Iterator

from routrel.analysis.answers import routes, walks
from routrel.analysis.answers.walks import Check, CheckKind, CheckState
from routrel.analysis.causes import does_not_forward, header_text
from routrel.analysis.program_remedies import check_words, unsure_words
from routrel.analysis.remedies import entry_text, match_text
from routrel.analysis.stop_words import decided, narrower
from routrel.analysis.table_rows import next_hops
from routrel.analysis.virtual_routers import active_words, group_of, is_of_virtual_router
from routrel.analysis.walk_verdicts import Answerer, gaps_on_the_way
from routrel.forwarding.flow import Walk
from routrel.forwarding.flow_words import FlowEnd
from routrel.forwarding.programs.engine import RuleCheck
from routrel.forwarding.trace import AclCheck, Branch, Stop, Trace
from routrel.model.devices import Device
from routrel.model.places import NOWHERE, Place
from routrel.routing.rib.observed import is_observed_only
from routrel.routing.routes import Route
from routrel.routing.solve import Solved

PASS: CheckState = "pass"
FAIL: CheckState = "fail"
NOTE: CheckState = "note"


class Evidence:
    """Makes the full answer to a flow: strands with stops, branches and their checks."""

    def __init__(self, answerer: Answerer):
        self.answerer = answerer
        self.solved: Solved = answerer.solved
        self.topology = answerer.solved.topology

    def walk(self, walk: Walk) -> walks.Walk:
        """A walk with all its evidence."""
        return walks.Walk(
            source=self._end(walk.source),
            to=self._end(walk.destination),
            service=str(walk.service),
            forward=self._strand(walk, walk.forward),
            reply=None if walk.reply is None else self._strand(walk, walk.reply),
            **self.answerer.outcome(walk),
        )

    def _end(self, end: FlowEnd) -> walks.End:
        device = None if end.device is None else self.topology.devices[end.device].name
        return walks.End(end.word, device, None if end.address is None else str(end.address))

    def _strand(self, walk: Walk, strand: Trace) -> walks.Strand:
        fewer = narrower(strand)
        return walks.Strand(
            starts=strand.starts,
            stops=[self.stop(stop, number in fewer) for number, stop in enumerate(strand.stops)],
            mtu=self._mtu(strand),
            **self.answerer.strand(walk, strand),
        )

    def _mtu(self, strand: Trace) -> walks.PacketSize | None:
        """The largest packet that survives every way, and where it first shrinks to that."""
        crossed = [
            (branch.mtu, number, index)
            for number, stop in enumerate(strand.stops)
            for index, branch in enumerate(stop.branches)
            if branch.mtu and branch.verdict != "blocked"
        ]
        if not crossed:
            return None
        smallest = strand.smallest_mtu
        assert smallest is not None
        largest = max(mtu for mtu, _, _ in crossed)
        shrinks = [(number, index) for mtu, number, index in crossed if mtu == smallest] if smallest < largest else []
        names = [self.topology.ports[strand.stops[number].branches[index].port].name for number, index in shrinks]
        return walks.PacketSize(smallest, [walks.Shrink(*at, *name) for at, name in zip(shrinks, names, strict=True)])

    def stop(self, stop: Stop, is_narrower: bool = False) -> walks.Stop:
        """A device on the way with every check there."""
        device = self.topology.devices[stop.device]
        return walks.Stop(
            device=device.name,
            vrf=self.topology.instances[stop.instance].vrf,
            kind=device.kind,
            site=device.site,
            ingress=self.topology.ports[stop.ingress].name.interface if stop.ingress >= 0 else None,
            header=header_text(stop.header),
            translated=None if stop.translated is None else header_text(stop.translated),
            source=str(stop.header.source),
            verdict=stop.verdict,
            stage=stop.stage,
            checks=list(self._checks(device, stop)),
            branches=[self._branch(device, stop, branch) for branch in stop.branches],
            by_default=self._by_default(stop.route, stop),
            narrower=is_narrower,
            decided=decided(device, stop),
            notes=[gap.what for gap in gaps_on_the_way(self.topology, stop)],
        )

    def _by_default(self, route: Route | None, stop: Stop) -> bool:
        """Whether a forwarding router had nothing better than its default route; a host never has."""
        device = self.topology.devices[stop.device]
        return route is not None and route.prefix.is_default and device.forwards

    def _checks(self, device: Device, stop: Stop) -> Iterator[Check]:
        if stop.acl_in is not None:
            yield self._acl_check("acl_in", device, stop.acl_in, self.topology.ports[stop.ingress].name.interface)
        yield from _filter_checks(stop.filters)
        if stop.stopped_by is not None:
            yield _filter_check(stop.stopped_by)
        if stop.translated is not None:
            yield _check("translation", NOTE, f"{header_text(stop.header)} becomes {header_text(stop.translated)}")
        if stop.stage == "filter":
            return
        if stop.verdict == "arrives":
            yield _check("delivery", PASS, self._delivered(device, stop))
            yield self._back(stop)
            return
        if stop.stage == "delivery":
            text = f"{stop.header.destination} is an address of {device.name} too: it ends here, not where it was meant"
            yield _check("delivery", FAIL, text, device.place)
            return
        if stop.stage == "host":
            yield _check("delivery", FAIL, does_not_forward(device, stop.header), device.place)
            return
        if stop.steering is not None:
            yield self._steering_check(device, stop)
        if stop.rule is not None and (stop.rule.table != "main" or stop.rule.source or not stop.is_rule_sure):
            state = PASS if stop.is_rule_sure else NOTE
            doubt = "" if stop.is_rule_sure else ". Not sure: rules before it are for some users, whom no capture tells"
            text = f"routing rule {stop.rule.priority}: {stop.rule.text}{doubt}"
            yield _check("steering", state, text, stop.rule.place)
        decided_by_steering = stop.steering is not None and stop.steering.used
        if not decided_by_steering:
            yield self._route_check(device, stop)
        yield self._back(stop)

    def _acl_check(self, kind: CheckKind, device: Device, check: AclCheck, interface: str) -> Check:
        acl = device.acls[check.acl]
        state = PASS if check.accepted else FAIL
        where = f"ACL {acl.name} on {interface}"
        if check.by_state:
            return _check(kind, state, f"{where}: a reply, passed by the state of the flow", acl.place, acl.name)
        if check.entry is None:
            return _check(kind, state, f"{where}: no entry matches, the closing drop decides", acl.place, acl.name)
        entry, number = acl.entries[check.entry], check.entry + 1
        named = f" ({entry.name})" if entry.name else ""
        text = f"{where}: entry {number}{named} {entry.action}s"
        return _check(kind, state, text, entry.place, acl.name, number, entry_text(entry))

    def _steering_check(self, device: Device, stop: Stop) -> Check:
        check = stop.steering
        assert check is not None
        policy = device.forwarding_policies[check.policy]
        where = f"forwarding policy {policy.name}"
        if check.entry is None:
            return _check("steering", NOTE, f"{where}: no entry matches, the table decides", policy.place)
        entry = policy.entries[check.entry]
        named = f"{where}: entry {check.entry + 1}"
        text = f"match: {{{match_text(entry.match)}}}, action: {entry.action}"
        if stop.stage == "steering":
            return _check("steering", FAIL, f"{named} discards", entry.place, written=text)
        if check.used:
            hop = stop.branches[0].address if stop.branches else ""
            said = f"{named} sends it to {hop}, whatever the table says"
            return _check("steering", PASS, said, entry.place, written=text)
        reason = (
            "leaves it to the table"
            if entry.action == "table"
            else "has no next hop on a connected subnet, the table decides"
        )
        return _check("steering", NOTE, f"{named} {reason}", entry.place, written=text)

    def _route_check(self, device: Device, stop: Stop) -> Check:
        route = stop.route
        if route is None:
            return _check("route", FAIL, f"no route for {stop.header.destination}", (device.routing or device).place)
        text = route_text(route)
        if is_observed_only(self.topology, stop.instance):
            text += ", as the table was read off"
        state = PASS if route.action == "forward" else FAIL
        if state == PASS and self._by_default(route, stop):
            text += ": only the default route, nothing better is known here"
            state = NOTE
        for doubt in self.solved.doubts_about(stop.instance, route.protocol):
            text += f". Not sure: {doubt}"
            state = NOTE if state == PASS else state
        return _check("route", state, text, self._route_place(device, route), route=self._route(route))

    def _route(self, route: Route) -> routes.Route:
        return routes.Route(
            str(route.prefix),
            route.protocol,
            route.origin,
            route.preference,
            route.metric,
            route.action,
            [str(hop) for hop in route.given_next_hops],
            next_hops(self.solved, route.next_hops),
        )

    def _route_place(self, device: Device, route: Route) -> Place:
        """The line a route comes from; for a protocol's route, where it runs on the way out."""
        if route.place or not route.next_hops:
            return route.place
        port = route.next_hops[0].port
        for solution, process in self.solved.processes_of(self.topology.ports[port].instance):
            settings = solution.database.ports.get(port)
            if process.protocol == route.protocol and route.prefix.family in process.families and settings is not None:
                place: Place = settings.settings.place
                return place
        return NOWHERE

    def _back(self, stop: Stop) -> Check:
        """Whether this device could send back to the source at all."""
        source = stop.header.source
        owners = self.topology.owners.get(source, ())
        if any(self.topology.ports[port].instance == stop.instance for port in owners):
            return _check("back", PASS, f"the source {source} is its own address")
        route = self.solved.lookup(stop.instance, source)
        device = self.topology.devices[stop.device]
        if route is None:
            return _check("back", FAIL, f"no route back to {source}", (device.routing or device).place)
        text = f"back to {source}: {route_text(route)}"
        if route.action != "forward":
            return _check("back", FAIL, text, self._route_place(device, route))
        only_default = route.prefix.is_default and device.forwards
        return _check(
            "back",
            NOTE if only_default else PASS,
            text + (": only the default route" if only_default else ""),
            self._route_place(device, route),
        )

    def _branch(self, device: Device, stop: Stop, branch: Branch) -> walks.Branch:
        port = self.topology.ports[branch.port]
        checks = []
        if branch.acl_out is not None:
            checks.append(self._acl_check("acl_out", device, branch.acl_out, port.name.interface))
        checks += _filter_checks(branch.filters)
        if branch.stopped_by is not None:
            checks.append(_filter_check(branch.stopped_by))
        if branch.header is not None and branch.header != (stop.translated or stop.header):
            text = f"{header_text(stop.translated or stop.header)} leaves as {header_text(branch.header)}"
            checks.append(_check("translation", NOTE, text))
        target = None
        if branch.target >= 0 or branch.verdict in ("unresolved", "leaves", "loops"):
            segment = self.topology.segment_of[branch.port]
            owner = self.topology.on_segment(segment, branch.address) if segment >= 0 and port.up else None
            target = None if owner is None else str(self.topology.ports[owner].name)
            checks.append(self._next_hop_check(branch, port.name.interface, target, segment))
        links = self.topology.segments[self.topology.segment_of[branch.port]].links if branch.port >= 0 else ()
        return walks.Branch(
            interface=port.name.interface,
            address=str(branch.address),
            via_next_hop=branch.via_next_hop,
            target=branch.target if branch.target >= 0 else None,
            target_interface=target,
            verdict=branch.verdict,
            stage=branch.stage,
            mtu=branch.mtu or None,
            links=list(links),
            checks=checks,
        )

    def _delivered(self, device: Device, stop: Stop) -> str:
        """That the destination is the device's, or that of a virtual router for which it is active."""
        address = stop.header.destination
        for number in self.topology.owners.get(address, ()):
            group = group_of(self.topology, self.topology.segment_of[number], address)
            if group is not None and self.topology.ports[number].instance == stop.instance:
                return f"{address} is taken by {device.name}, {active_words(self.topology, group)}"
        return f"{address} is an address of {device.name}"

    def _next_hop_check(self, branch: Branch, interface: str, target: str | None, segment: int) -> Check:
        what = "next hop" if branch.via_next_hop else "destination"
        place = self.topology.ports[branch.port].interface.place
        device = self.topology.devices[self.topology.ports[branch.port].device]
        if branch.verdict == "unresolved" and is_of_virtual_router(device, branch.address):
            text = f"{device.name} is active for it and takes no packets to it"
            return _check("next_hop", FAIL, f"{what} {branch.address} is a virtual router's: {text}", place)
        if branch.verdict == "unresolved":
            return _check("next_hop", FAIL, f"{what} {branch.address} out of {interface}: nobody there has it", place)
        if branch.verdict == "leaves":
            return _check("next_hop", NOTE, f"{what} {branch.address} out of {interface}: beyond the model", place)
        text = f"{what} {branch.address} out of {interface}, reached at {target}"
        group = group_of(self.topology, segment, branch.address)
        if group is not None:
            text += f", {active_words(self.topology, group)}"
        if branch.verdict == "loops":
            return _check("next_hop", FAIL, text + ", where the packet has been before", place)
        return _check("next_hop", PASS, text, place)


def _filter_checks(checks: Iterable[RuleCheck]) -> Iterator[Check]:
    """Those that say something of the packet: a translating chain without a rule for it does not."""
    return (_filter_check(one) for one in checks if one.rule is not None or one.base.kind != "nat")


def _filter_check(check: RuleCheck) -> Check:
    """What a base chain did, with the rule's own text and the jumps that led to it."""
    state = PASS if check.accepted else FAIL
    text = f"{check.hook}: {check_words(check)} {check.action}s"
    if check.jumps:
        ways = " > ".join(f"rule {rule.number} of {chain.name}" for chain, rule in check.jumps)
        text += f", by way of {ways}"
    if check.unsure:
        state = NOTE if check.accepted else FAIL
        text += f". Not sure: {unsure_words(check)}"
    place = check.located.place if check.rule is None else check.rule.place
    number, written = (None, "") if check.rule is None else (check.rule.number, check.rule.text)
    return _check("filter", state, text, place, str(check.located), number, written)


def route_text(route: Route) -> str:
    """A route in one line: ``10.1.0.0/16, ospf inter-area 110/30``."""
    origin = f" {route.origin}" if route.origin else ""
    numbers = "/".join("-" if value is None else str(value) for value in (route.preference, route.metric))
    action = "" if route.action == "forward" else f", {route.action}s"
    return f"{route.prefix}, {route.protocol}{origin} {numbers}{action}"


def _check(
    kind: CheckKind,
    state: CheckState,
    text: str,
    place: Place = NOWHERE,
    acl: str | None = None,
    entry: int | None = None,
    written: str = "",
    route: routes.Route | None = None,
) -> Check:
    return Check(kind, state, text, place or None, acl, entry, written, route)
