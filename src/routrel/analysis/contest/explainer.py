"""Explains any route of a solved network: every candidate from every source, and the contest among them."""

from collections import defaultdict
from collections.abc import Mapping
from functools import cached_property

from routrel.analysis.contest.candidates import Candidate, Contest
from routrel.analysis.contest.kept import Kept
from routrel.analysis.contest.protocol import ProtocolContest, SolvedProtocol
from routrel.analysis.contest.registry import CONTESTS
from routrel.analysis.contest.rounds import Elimination
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.fields import replace
from routrel.model.routing import DEFAULT_PREFERENCES
from routrel.routing.protocol import AnySolution
from routrel.routing.rib.observed import is_observed_only, observed_in
from routrel.routing.rib.static import resolve_static, static_candidates
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved

Node = tuple[int, int]
"""(solution, process)."""


class Explainer:
    """Explains routes of one solved network.

    To try values, ``costs`` overrides interface costs (metrics, delays), by port, and ``metrics`` those of
    routes put into a protocol, by (solution, process). Redistribution stays as it was settled. ``base`` is
    the same without them, whose work is shared.
    """

    def __init__(
        self,
        solved: Solved,
        costs: Mapping[int, int] | None = None,
        metrics: Mapping[tuple[int, int], int] | None = None,
        base: "Explainer | None" = None,
    ):
        self.solved = solved
        self.topology = solved.topology
        self.costs = costs or {}
        self.metrics = metrics or {}
        self.contests: list[ProtocolContest] = []
        """The protocols' parts, by solution."""
        for number, solution in enumerate(solved.solutions):
            of_solution = {process: metric for (of, process), metric in self.metrics.items() if of == number}
            redistributed = solved.redistribution.redistributed[number]
            settled = SolvedProtocol(number, solution, redistributed, self.costs, of_solution)
            shared = base.contests[number] if base is not None else None
            self.contests.append(CONTESTS[solution.protocol](settled, shared))
        self._origins: Kept[tuple[int, int], dict[int, set[int]]] = Kept()

    @cached_property
    def redistributing(self) -> list[tuple[Node, int]]:
        """Processes of which another on the same instance puts routes into its protocol: with its solution."""
        found: list[tuple[Node, int]] = []
        number_of = {id(solution): number for number, solution in enumerate(self.solved.solutions)}
        for instance in self.topology.instances:
            processes = self.solved.processes_of(instance.index)
            for into, process in processes if len(processes) > 1 else ():
                sources = {rule.source for rule in process.redistribute}
                found += [
                    ((number_of[id(solution)], one.number), number_of[id(into)])
                    for solution, one in processes
                    if one is not process and one.protocol in sources
                ]
        return found

    def contest_of(self, solution: AnySolution) -> ProtocolContest:
        """The part of one of the network's solutions."""
        return self.contests[self.solved.solutions.index(solution)]

    def contest(self, instance: int, prefix: Prefix) -> Contest:
        """All candidates for a prefix of the network in a routing instance; ``KeyError`` for any other prefix."""
        self.solved.prefixes.number[prefix]
        return self.decide(instance, prefix, self.candidates(instance, prefix))

    def decide(self, instance: int, prefix: Prefix, candidates: list[Candidate]) -> Contest:
        """The rounds among some candidates, which they note down."""
        is_trial = bool(self.costs or self.metrics)
        return Elimination(self.solved, self.contests, instance, prefix, candidates, with_detours=not is_trial).run()

    def candidates(self, instance: int, prefix: Prefix) -> list[Candidate]:
        """Everything that is offered for a prefix, in the order of protocols."""
        if is_observed_only(self.topology, instance):
            return self._observed(instance, prefix)
        found = [*self._connected(instance, prefix), *self._static(instance, prefix)]
        for solution, process in self.solved.processes_of(instance):
            if prefix.family in process.families:
                contest = self.contest_of(solution)
                offered = contest.candidates(process.number, prefix)
                found += [replace(one, processes=(contest.solved.number, process.number)) for one in offered]
        return found

    def _preference(self, instance: int, protocol: str) -> int:
        routing = self.topology.instances[instance].routing
        return routing.preference(protocol) if routing else DEFAULT_PREFERENCES[protocol]

    def _connected(self, instance: int, prefix: Prefix) -> list[Candidate]:
        found = []
        preference = self._preference(instance, "connected")
        for number in self.topology.ports_of[self.topology.instances[instance].device]:
            port = self.topology.ports[number]
            if port.instance != instance:
                continue
            places = port.interface.address_places or (port.interface.place,) * len(port.interface.addresses)
            for address, place in zip(port.interface.addresses, places, strict=True):
                is_subnet = address.prefix == prefix
                if address.prefix.is_link_local or not (is_subnet or address.address.host_prefix() == prefix):
                    continue
                protocol = "connected" if is_subnet else "local"
                words = f"its own interface {port.name.interface}, {address}"
                candidate = Candidate(protocol, "", "", preference, 0, words, (NextHop(number, None),), place=place)
                if not port.up:
                    candidate.out = f"{port.name} is down: {port.down}"
                found.append(candidate)
        return found

    def _static(self, instance: int, prefix: Prefix) -> list[Candidate]:
        found = []
        default = self._preference(instance, "static")
        table = self.solved.table(instance)
        inactive = self.solved.unresolved[instance]
        for static in static_candidates(self.topology, instance):
            if static.prefix != prefix:
                continue
            preference = default if static.preference is None else static.preference
            to = f"to {static.next_hop}" if static.next_hop else f"out of {static.interface}"
            candidate = Candidate(
                "static",
                "",
                "",
                preference,
                static.metric,
                f"a static route {to if static.action == 'forward' else 'to ' + static.action}",
                action=static.action,
                tag=static.tag,
                place=static.place,
                ranks={
                    "static preference": (preference, str(preference)),
                    "static metric": (static.metric, str(static.metric)),
                },
            )
            candidate.has_own_preference = static.preference is not None
            if static.next_hop is not None:
                candidate.attributes["next hop as written"] = str(static.next_hop)
            resolution, reason = resolve_static(self.topology, table, static)
            reason = next((why for route, why in inactive if route is static), "" if resolution else reason)
            if reason or resolution is None:
                candidate.out = reason
            else:
                candidate.action, candidate.next_hops = resolution
            found.append(candidate)
        return found

    def _observed(self, instance: int, prefix: Prefix) -> list[Candidate]:
        failed = self.solved.unresolved.get(instance, [])
        route = self.solved.table(instance).get(self.solved.prefixes.number[prefix])
        found = []
        for observed in observed_in(self.topology, instance):
            if observed.prefix == prefix:
                rank = observed.preference or 0, observed.metric or 0
                found.append(
                    Candidate(
                        observed.protocol,
                        "",
                        "",
                        rank[0],
                        rank[1],
                        "read off the device",
                        route.next_hops if route else (),
                        observed.action,
                        place=observed.place,
                        ranks={"preference": (rank[0], str(rank[0])), "metric": (rank[1], str(rank[1]))},
                        out=next((why for route, why in failed if route is observed), ""),
                        unsaid=tuple(k for k in ("preference", "metric") if getattr(observed, k) is None),
                    )
                )
        return found

    def told_of(self, address: Address) -> Prefix | None:
        """The longest prefix that holds an address and that others could hear of.

        An interface's own address stands in its owner's table alone: what is announced is its subnet, but for
        loopbacks and host subnets.
        """
        prefixes = [self.solved.prefixes.prefixes[number] for number in self.solved.prefixes.chain(address)]
        if len(prefixes) > 1 and prefixes[0].length == BITS[address.family]:
            owners = [self.topology.ports[number] for number in self.topology.owners.get(address, ())]
            others = set(self.origins(prefixes[0])) - {port.instance for port in owners}
            is_announced = any(port.interface.kind == "loopback" or prefixes[0] in port.prefixes for port in owners)
            if not others and not is_announced and any(prefixes[1] in port.prefixes for port in owners):
                return prefixes[1]
        return prefixes[0] if prefixes else None

    def origins(self, prefix: Prefix) -> list[int]:
        """The instances whose own interfaces, static or observed routes say a prefix, in ascending order."""
        kind = prefix.family, prefix.length
        origins = self._origins.get_or_make(kind, lambda: self._origins_of(*kind))
        return sorted(origins.get(prefix.network >> BITS[prefix.family] - prefix.length, ()))

    def _origins_of(self, family: int, length: int) -> dict[int, set[int]]:
        """The instances that say the prefixes of one length, by the prefixes' bits as plain numbers."""
        found: dict[int, set[int]] = defaultdict(set)
        host, shift = length == BITS[family], BITS[family] - length
        for port in self.topology.ports:
            for its_family, value, its_length in port.interface.addresses:
                if its_family == family and (host or its_length == length):
                    found[value >> shift].add(port.instance)
        for instance in self.topology.instances:
            stated = [route.prefix for route in static_candidates(self.topology, instance.index)]
            stated += [route.prefix for route in observed_in(self.topology, instance.index)]
            for prefix in stated:
                if prefix.family == family and prefix.length == length:
                    found[prefix.network >> shift].add(instance.index)
        return found
