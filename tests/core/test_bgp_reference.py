"""BGP held against speakers that send each other messages, one at a time, in any order.

The reference knows nothing of rounds, columns or interned paths: routers with three tables each (RFC 4271
section 3.2), a bag of messages, and a dice that says which session speaks next. Whatever order the messages
take, it must end where the solver says, unless the solver reports that order matters.
"""

import random
import re
from dataclasses import dataclass, field

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.model.addresses import Address, Prefix
from routrel.model.fields import replace
from routrel.routing.redistributed import Redistributed
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.mixed_networks import read
from tests.core.networks import solution_of
from tests.core.speaker_networks import speakers
from tests.examples import examples

MESSAGES = 4000
ORIGIN_RANK = {"igp": 0, "egp": 1, "incomplete": 2}


@dataclass(frozen=True)
class Route:
    as_path: tuple[int, ...] = ()
    origin: str = "igp"
    med: int | None = None
    local_preference: int = 100
    communities: frozenset[str] = frozenset()
    next_hop: Address | None = None
    originator: int | None = None
    cluster_list: tuple[int, ...] = ()
    weight: int = 0


@dataclass
class Peer:
    """One side of a session that is up."""

    own: "Router"
    other: "Router"
    settings: object
    external: bool
    address: Address
    port: int
    back: "Peer | None" = None


@dataclass
class Router:
    number: int
    bgp: object
    addresses: set
    identifier: int
    cluster: int
    policies: dict
    metric: object
    blocked: bool
    local: Route | None
    suppressed: bool
    peers: list[Peer] = field(default_factory=list)
    adj_rib_in: dict[int, Route] = field(default_factory=dict)
    """By the position of the peer."""


ORDERS = 20
"""Orders of messages tried where the first ends elsewhere."""


class Simulation:
    """One prefix among the speakers of a solved network; sessions and next hops are those it has."""

    def __init__(self, solved: Solved, prefix: Prefix, dice: random.Random):
        self.prefix = prefix
        self.dice = dice
        bgp, topology = solution_of(solved, "bgp"), solved.topology
        column = solved.prefix_classes.column_of(prefix)
        number = solved.solutions.index(bgp)
        blocked = bgp.silent
        injected = solved.redistribution.redistributed[number]
        self.routers = []
        for speaker in bgp.database.speakers:
            device = topology.devices[topology.instances[speaker.instance].device]
            local, suppressed = None, False
            found = injected.get(speaker.process, Redistributed())
            if column in found.numbers.tolist():
                local = self._given(bgp.paths, int(found.paths[found.numbers.tolist().index(column)]))
            for aggregate in speaker.bgp.aggregates:
                standing = bgp.prefixes.number[aggregate.prefix] in bgp.propagation.aggregated[speaker.process]
                if standing and aggregate.prefix == prefix and local is None:
                    local = Route(origin=self._worst_origin(solved, speaker.process))
                elif standing and aggregate.summary_only and aggregate.prefix.covers(prefix):
                    suppressed = suppressed or aggregate.prefix != prefix
            resolver = bgp.resolvers[speaker.process]
            self.routers.append(
                Router(
                    speaker.bgp.number,
                    speaker.bgp,
                    solved.topology.addresses_of(speaker.instance),
                    speaker.identifier,
                    speaker.cluster,
                    device.policies,
                    lambda hop, resolver=resolver: resolver.resolve(bgp.paths.next_hops.number(hop))[0],
                    bool(blocked[speaker.process][column]),
                    local,
                    suppressed,
                )
            )
        made = {}
        for channel in bgp.state.channels:
            if prefix.family in channel.families:
                peer = Peer(
                    self.routers[channel.sender],
                    self.routers[channel.receiver],
                    channel.sending.neighbor,
                    channel.external,
                    dict(channel.next_hops).get(prefix.family),
                    channel.port,
                )
                made[channel.index] = peer
                peer.own.peers.append(peer)
                if channel.index ^ 1 in made:
                    peer.back, made[channel.index ^ 1].back = made[channel.index ^ 1], peer
        self.topology = topology

    def _worst_origin(self, solved: Solved, process: int) -> str:
        """Section 9.2.2.2, by what the speaker holds inside the aggregate."""
        bgp, inside = solution_of(solved, "bgp"), []
        for column, prefix in enumerate(solved.prefix_classes.prefixes):
            number = int(bgp.propagation.best[process, column])
            if number >= 0 and self.prefix.covers(prefix) and prefix != self.prefix:
                inside.append(self._given(bgp.paths, number).origin)
        return max(inside, key=lambda origin: ORIGIN_RANK[origin])

    @staticmethod
    def _given(paths, number: int) -> Route:
        row = paths.rows[number].tolist()
        return Route(
            paths.as_paths.values[row[0]],
            ("igp", "egp", "incomplete")[row[1]],
            None if row[2] < 0 else row[2],
            row[3],
            paths.communities.values[row[4]],
            paths.next_hops.values[row[5]],
            weight=row[8],
        )

    def run(self) -> bool:
        """Send until nobody has anything new to say; False where that takes too long."""
        waiting = [peer for router in self.routers for peer in router.peers]
        said: dict[int, Route | None] = {id(peer): None for peer in waiting}
        for _ in range(MESSAGES):
            news = [peer for peer in waiting if self.update(peer) != said[id(peer)]]
            if not news:
                return True
            peer = self.dice.choice(news)
            said[id(peer)] = self.update(peer)
            self.hear(peer.back, said[id(peer)])
        return False

    def hear(self, peer: Peer, route: Route | None) -> None:
        """Section 9: a route replaces what came before by this session; None withdraws it."""
        at = peer.own.peers.index(peer)
        kept = None if route is None else self.imported(peer, route)
        if kept is None:
            peer.own.adj_rib_in.pop(at, None)
        else:
            peer.own.adj_rib_in[at] = kept

    def imported(self, peer: Peer, route: Route) -> Route | None:
        own = peer.own
        if route.as_path.count(own.number) > peer.settings.allow_own_as or route.next_hop in own.addresses:
            return None
        if peer.external:
            if own.bgp.require_policies and peer.settings.import_policy is None:
                return None
            # RFC 4271 section 6.3, for a session whose receiver has the other directly on a subnet.
            if peer.port >= 0 and not any(
                mine.prefix.contains(route.next_hop) and mine.address != route.next_hop
                for mine in self.topology.ports[peer.port].interface.addresses
            ):
                return None
        else:
            if route.originator == own.identifier:
                return None
            if own.cluster in route.cluster_list and any(one.route_reflector_client for one in own.bgp.neighbors):
                return None
        return self.ask(
            own, peer.settings.import_policy, replace(route, weight=peer.settings.weight), peer.settings.address
        )

    def ask(self, router: Router, name: str | None, route: Route, neighbor: Address) -> Route | None:
        """RFC 9067, statement by statement."""
        if name is None:
            return route
        for statement in router.policies[name].statements:
            if not self.matches(statement.match, route, neighbor):
                continue
            sets = statement.set
            if sets.metric is not None:
                route = replace(route, med=sets.metric)
            for key in ("med", "local_preference", "weight", "origin", "next_hop"):
                if getattr(sets, key) is not None:
                    route = replace(route, **{key: getattr(sets, key)})
            if sets.as_path_prepend is not None:
                prepended = (sets.as_path_prepend.number,) * sets.as_path_prepend.times
                route = replace(route, as_path=prepended + route.as_path)
            if sets.communities is not None:
                change = sets.communities
                found = set(route.communities) if change.replaced is None else set(change.replaced)
                route = replace(route, communities=frozenset(found - set(change.removed) | set(change.added)))
            if statement.result != "continue":
                return route if statement.result == "accept" else None
        return None

    def matches(self, match, route: Route, neighbor: Address) -> bool:
        if match.prefixes is not None and not any(
            one.prefix.covers(self.prefix) and one.low <= self.prefix.length <= one.high for one in match.prefixes
        ):
            return False
        if match.protocols is not None and "bgp" not in match.protocols:
            return False
        if match.tag:
            return False  # what comes by a session has no tag
        if match.metric is not None and (route.med or 0) != match.metric:
            return False
        if match.med is not None and route.med != match.med:
            return False
        if match.next_hops is not None and route.next_hop not in match.next_hops:
            return False
        if match.neighbors is not None and neighbor not in match.neighbors:
            return False
        if match.communities is not None:
            there = [one in route.communities for one in match.communities.communities]
            if not (all(there) if match.communities.every else any(there)):
                return False
        if match.as_path is not None:
            asked, path = match.as_path, route.as_path
            if asked.contains is not None and asked.contains not in path:
                return False
            if asked.starts is not None and (not path or path[0] != asked.starts):
                return False
            if asked.ends is not None and (not path or path[-1] != asked.ends):
                return False
            if asked.min_length is not None and len(path) < asked.min_length:
                return False
            if asked.max_length is not None and len(path) > asked.max_length:
                return False
            if asked.pattern is not None and not re.search(asked.pattern, " ".join(map(str, path))):
                return False
        return True

    def chosen(self, router: Router) -> tuple[Route, Peer | None] | None:
        """Section 9.1: the Loc-RIB's route, and the session it came by."""
        held: list[tuple[Route, Peer | None]] = [] if router.local is None else [(router.local, None)]
        held += [(route, router.peers[at]) for at, route in sorted(router.adj_rib_in.items())]
        held = [one for one in held if one[1] is None or router.metric(one[0].next_hop) < 2**40]
        switches = router.bgp.decision

        def least(key):
            best = min(key(*one) for one in held)
            return [one for one in held if key(*one) == best]

        def med(route: Route) -> int:
            return (2**32 - 1 if switches.missing_med_is_worst else 0) if route.med is None else route.med

        def nearest(route: Route) -> int:
            return route.as_path[0] if route.as_path else 0

        def after_med(route: Route, peer: Peer | None) -> tuple:
            age = 0
            if switches.prefer_oldest and peer is not None and peer.external:
                age = self.age(peer)
            elif switches.prefer_oldest:
                age = 0
            far = router.identifier if peer is None else peer.other.identifier
            return (
                0 if peer is not None and peer.external else 1,
                0 if peer is None else router.metric(route.next_hop),
                age,
                far if route.originator is None else route.originator,
                len(route.cluster_list),
                (0,) if peer is None else (1, *peer.settings.address),
            )

        if not held:
            return None
        held = least(lambda route, _: -route.weight)
        held = least(lambda route, _: -route.local_preference)
        held = least(lambda _, peer: 0 if peer is None else 1)
        if not switches.ignore_as_path_length:
            held = least(lambda route, _: len(route.as_path))
        held = least(lambda route, _: ORIGIN_RANK[route.origin])
        if switches.compare_med_between_as:
            held = least(lambda route, _: med(route))
        elif switches.deterministic_med:
            held = [
                one
                for one in held
                if not any(nearest(o[0]) == nearest(one[0]) and med(o[0]) < med(one[0]) for o in held)
            ]
        else:
            line = sorted(held, key=lambda one: self.turn(one[1]))
            best = line[0]
            for one in line[1:]:
                if nearest(one[0]) == nearest(best[0]) and med(one[0]) != med(best[0]):
                    best = one if med(one[0]) < med(best[0]) else best
                elif after_med(*one) < after_med(*best):
                    best = one
            return best
        return min(held, key=lambda one: after_med(*one))

    def age(self, peer: Peer | None) -> float:
        said = None if peer is None else (peer.settings.established_at or peer.back.settings.established_at)
        return float("inf") if said is None else said.timestamp()

    def turn(self, peer: Peer | None) -> tuple:
        age = self.age(peer)
        address = (0,) if peer is None else (1, *peer.settings.address)
        return (1 if age == float("inf") else 0, 0 if age == float("inf") else -age, address)

    def update(self, peer: Peer) -> Route | None:
        """Section 9.1.3: what a speaker now says by one session, None for nothing."""
        own, settings = peer.own, peer.settings
        if peer.address is None:
            return None
        if settings.originate_default and self.prefix.length == 0:
            return Route((own.number,) if peer.external else (), next_hop=peer.address)
        best = self.chosen(own)
        if best is None or own.suppressed:
            return None
        route, came_by = best
        if own.blocked and came_by is not None:
            if own.local is None:
                return None
            route, came_by = own.local, None
        if came_by is peer:
            return None
        from_inside = came_by is not None and not came_by.external
        of_a_client = from_inside and came_by.settings.route_reflector_client
        if not peer.external and from_inside and not of_a_client and not settings.route_reflector_client:
            return None
        if "no-advertise" in route.communities:
            return None
        if peer.external and route.communities & {"no-export", "no-export-subconfed"}:
            return None
        if peer.external and own.bgp.require_policies and settings.export_policy is None:
            return None
        changed = self.ask(own, settings.export_policy, route, settings.address)
        if changed is None:
            return None
        sets = self.sets_of(own, settings.export_policy, route, settings.address)
        next_hop = changed.next_hop
        if peer.external:
            med = changed.med if came_by is None or "med" in sets or "metric" in sets else None
            path = changed.as_path
            if settings.remove_private_as:
                path = tuple(n for n in path if not (64512 <= n <= 65534 or 4200000000 <= n <= 4294967294))
            if "next_hop" not in sets:
                keeps = peer.port >= 0 and next_hop is not None and not settings.next_hop_self
                if came_by is not None:
                    keeps = keeps and came_by.port == peer.port
                else:
                    keeps = keeps and any(
                        own_address.prefix.contains(next_hop) and own_address.address != next_hop
                        for own_address in self.topology.ports[peer.port].interface.addresses
                    )
                # Section 5.1.3: never the peer's own address.
                next_hop = next_hop if keeps and next_hop != settings.address else peer.address
            if "next_hop_self" in sets:
                next_hop = peer.address
            return Route((own.number, *path), changed.origin, med, 100, changed.communities, next_hop)
        if "next_hop" not in sets and (next_hop is None or (settings.next_hop_self and not from_inside)):
            next_hop = peer.address
        if "next_hop" not in sets and came_by is None and next_hop == settings.address:
            next_hop = peer.address
        if "next_hop_self" in sets:
            next_hop = peer.address
        result = replace(changed, next_hop=next_hop, weight=0)
        if from_inside:
            originator = came_by.other.identifier if result.originator is None else result.originator
            result = replace(result, originator=originator, cluster_list=(own.cluster, *result.cluster_list))
        return result

    def sets_of(self, router: Router, name: str | None, route: Route, neighbor: Address) -> set[str]:
        """Which attributes the statements that match set."""
        found: set[str] = set()
        for statement in router.policies[name].statements if name is not None else ():
            if self.matches(statement.match, route, neighbor):
                found |= {key for key in ("med", "metric", "next_hop") if getattr(statement.set, key) is not None}
                if statement.set.next_hop is not None:
                    found.discard("next_hop_self")
                if statement.set.next_hop_self:
                    found.add("next_hop_self")
                step = replace(statement, result="accept")
                only = replace(router.policies[name], statements=(step,))
                route = self.ask(replace(router, policies={"one": only}), "one", route, neighbor)
                if statement.result != "continue":
                    break
        return found


@given(speakers(), st.integers(0, 2**32))
@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_messages_in_any_order_end_where_the_solver_says(document, chance):
    solved = solve(read(document))
    held = solution_of(solved, "bgp").propagation
    if solved.redistribution.unsettled is not None or solved.redistribution.depends_on_order:
        return
    # Where a session's failure leads to another stable state, order matters as well.
    restarted = {
        prefix for finding in solution_of(solved, "bgp").costly_findings() for prefix in prefixes_in(finding.message)
    }
    for column, prefix in enumerate(solved.prefix_classes.prefixes):
        if column in held.unstable.columns or column in held.ordered or str(prefix) in restarted:
            continue
        told = [told_route(solution_of(solved, "bgp").paths, int(number)) for number in held.best[:, column]]
        # Of several stable states that no session's failure leads between, the solver has one.
        assert any(reached(solved, prefix, chance + order) == told for order in range(ORDERS)), str(prefix)


def told_route(paths, number: int) -> Route | None:
    """A path of the solver as the simulation writes it."""
    if number < 0:
        return None
    row = paths.rows[number].tolist()
    return replace(
        Simulation._given(paths, number),
        originator=None if row[6] < 0 else row[6],
        cluster_list=paths.clusters.values[row[7]],
    )


def reached(solved: Solved, prefix: Prefix, seed: int) -> list[Route | None]:
    """The routes that speakers end with where messages come in one order."""
    simulation = Simulation(solved, prefix, random.Random(seed))
    assert simulation.run(), f"{prefix} does not settle"
    best = [simulation.chosen(router) for router in simulation.routers]
    return [None if one is None else one[0] for one in best]


def prefixes_in(message: str) -> set[str]:
    return set(re.findall(r"[0-9a-f:.]+/\d+", message))
