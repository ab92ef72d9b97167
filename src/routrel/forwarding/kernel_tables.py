"""Routes of a Linux router chosen as its kernel does: rule by rule, table by table (fib_rules.c, fib_trie.c)."""

from collections import defaultdict
from collections.abc import Sequence

from msgspec import Struct

from routrel.model.addresses import BITS, Address
from routrel.model.fields import replace
from routrel.model.filters import ICMP, Header
from routrel.model.kernel_routing import LOCAL, KernelRoute, KernelRouting, RoutingRule
from routrel.model.routing import RouteAction
from routrel.routing.routes import NextHop, Route
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

OWN = "lo"
"""The way in of packets that the device makes itself, as rules name it."""

DSCP_SHIFT = 2
"""From a DSCP to the octet that rules and routes compare (RFC 2474 section 3)."""


class Asked(Struct, frozen=True):
    """What rules select by. ``source`` is None of a packet whose source is still to be chosen."""

    header: Header
    iif: str
    has_source: bool = True
    mark: int | None = 0
    """None where it is not known."""
    dscp: int | None = 0


class Found(Struct, frozen=True):
    """A way that the rules may lead: the rule that decided, and the route or None where nothing leads on.

    ``is_sure`` is False where a rule before hangs on what no capture tells.
    """

    rule: RoutingRule | None
    route: Route | None
    source: Address | None = None
    is_sure: bool = True


class KernelTables:
    """The rules and tables of one device."""

    def __init__(self, topology: Topology, device: int, routing: KernelRouting):
        self.topology = topology
        self.device = device
        self._rules = {family: [rule for rule in routing.rules if rule.family == family] for family in (4, 6)}
        self._tables: dict[tuple[int, str], dict[int, dict[int, list[tuple[KernelRoute, Route]]]]] = {}
        for key, routes in routing.tables.items():
            lengths: dict[int, dict[int, list[tuple[KernelRoute, Route]]]] = defaultdict(lambda: defaultdict(list))
            if key[0] == 6:
                routes = _siblings(routes)
            for route in sorted(routes, key=lambda one: (-one.tos, one.route.metric or 0)):
                prefix = route.route.prefix
                lengths[prefix.length][prefix.network].append((route, self._made(route)))
            self._tables[key] = dict(sorted(lengths.items(), reverse=True))

    def _made(self, found: KernelRoute) -> Route:
        """A route with numbers in place of names; hops by interfaces that are not there are left out."""
        named, route = self.topology.ports_named[self.device], found.route
        hops = tuple(
            NextHop(named[hop.interface].index, hop.address)
            for hop in route.next_hops
            if hop.interface is not None and hop.interface in named
        )
        action: RouteAction = "forward" if found.action == "throw" else found.action
        return Route(route.prefix, route.protocol, None, route.metric, hops, action, place=route.place)

    def look_up(self, asked: Asked) -> list[Found]:
        """Where the rules lead: one way, or two where a rule for some users may hold."""
        rules = self._rules[asked.header.destination.family]
        return self._from(rules, 0, asked, True)

    def _from(self, rules: Sequence[RoutingRule], start: int, asked: Asked, is_sure: bool) -> list[Found]:
        at = start
        while at < len(rules):
            rule = rules[at]
            at += 1
            holds = _holds(rule, asked)
            if holds is None:
                without = self._from(rules, at, asked, False)
                return [*self._by(rules, at, rule, asked, False), *without]
            if holds:
                if rule.action == "goto":
                    at = next((n for n in range(at, len(rules)) if rules[n].priority == rule.target), at)
                    continue
                found = self._decided(rule, asked, is_sure)
                if found is not None:
                    return [found]
        return [Found(None, None, None, is_sure)]

    def _by(self, rules: Sequence[RoutingRule], at: int, rule: RoutingRule, asked: Asked, is_sure: bool) -> list[Found]:
        """What a rule decides if it holds, and where it leads on if it does not decide."""
        if rule.action == "goto":
            onward = next((n for n in range(at, len(rules)) if rules[n].priority == rule.target), at)
            return self._from(rules, onward, asked, is_sure)
        found = self._decided(rule, asked, is_sure)
        return [found] if found is not None else []

    def _decided(self, rule: RoutingRule, asked: Asked, is_sure: bool) -> Found | None:
        """What a rule that holds decides; None where the next one is asked."""
        if rule.action == "nop" or (rule.action == "table" and rule.table == LOCAL):
            return None  # own addresses are delivered before rules are asked
        if rule.action != "table":
            action: RouteAction = "discard" if rule.action == "blackhole" else "reject"
            whole = asked.header.destination.host_prefix()
            return Found(rule, Route(whole, "rule", None, None, (), action, place=rule.place), None, is_sure)
        found = self._longest(rule, asked)
        if found is None:
            return None
        kernel, route = found
        return Found(rule, route, kernel.source, is_sure)

    def _longest(self, rule: RoutingRule, asked: Asked) -> tuple[KernelRoute, Route] | None:
        """The longest match of a rule's table; a throw, and a match that the rule suppresses, are none."""
        destination, tos = asked.header.destination, (asked.dscp or 0) << DSCP_SHIFT
        lengths = self._tables.get((destination.family, rule.table), {})
        for length, networks in lengths.items():
            shift = BITS[destination.family] - length
            for kernel, route in networks.get(destination.value >> shift << shift, ()):
                if kernel.tos not in (0, tos):
                    continue
                if kernel.action == "throw":
                    return None
                if rule.suppressed_length is not None and length <= rule.suppressed_length:
                    return None
                return kernel, route
        return None


def fitting_address(port: Port, family: int, towards: Address | None) -> Address | None:
    """The address of an interface that is in the subnet of what it sends to, else its first (inet_select_addr)."""
    own = [
        (prefix, address)
        for prefix, address in zip(port.prefixes, port.addresses, strict=True)
        if address.family == family and not address.is_link_local
    ]
    fitting = [address for prefix, address in own if towards is not None and prefix.contains(towards)]
    return next(iter(fitting or [address for _, address in own]), None)


def asks_with_source(header: Header, hops: tuple[NextHop, ...] | None) -> bool:
    """Whether rules are asked of an own packet with its source; ``hops`` is the way that was chosen without one.

    Where the first question has no answer there is no second. IPv6 and echo requests have the first alone
    (ip6_output.c, ip6_dst_lookup_tail; ping.c); a socket that connects over IPv4 asks again (ip_route_connect).
    """
    return hops is None or (bool(hops) and header.source.family == 4 and header.protocol != ICMP)


def _siblings(routes: Sequence[KernelRoute]) -> tuple[KernelRoute, ...]:
    """IPv6 routes of one prefix and metric are the ways of one route (ip6_fib.c)."""
    found: dict[object, KernelRoute] = {}
    for one in routes:
        key = one.route.prefix, one.route.metric, one.action
        standing = found.get(key)
        if standing is None or one.action != "forward":
            found[key] = one
        else:
            hops = (*standing.route.next_hops, *one.route.next_hops)
            found[key] = replace(standing, route=replace(standing.route, next_hops=hops))
    return tuple(found.values())


def _holds(rule: RoutingRule, asked: Asked) -> bool | None:
    """Whether a rule selects a packet; None where it hangs on its user or on a mark that is not known."""
    header = asked.header
    holds = (
        (rule.source is None or (asked.has_source and rule.source.contains(header.source)))
        and (rule.destination is None or rule.destination.contains(header.destination))
        and (rule.iif is None or rule.iif == asked.iif)
        and rule.oif is None  # only of sockets bound to an interface
        and (rule.tos is None or rule.tos == (asked.dscp or 0) << DSCP_SHIFT)
        and (rule.protocol is None or rule.protocol == header.protocol)
        and _has_port(rule.source_ports, header.source_port)
        and _has_port(rule.destination_ports, header.destination_port)
    )
    if holds and rule.mark is not None:
        if asked.mark is None:
            return None
        holds = asked.mark & rule.mark[1] == rule.mark[0]
    if holds and rule.users is not None:
        if asked.iif == OWN:
            return None
        holds = rule.users[0] <= 0 <= rule.users[1]
    return holds != rule.is_inverted


def _has_port(ports: tuple[int, int] | None, port: int | None) -> bool:
    return ports is None or (port is not None and ports[0] <= port <= ports[1])
