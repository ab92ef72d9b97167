"""Explains any route of a solved network: every candidate from every source, and the contest among them."""

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import replace

from routrel.analysis.contest import bgp, isis, ospf, vectors
from routrel.analysis.contest.candidates import Candidate, Contest
from routrel.analysis.contest.rounds import Elimination
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.routing import DEFAULT_PREFERENCES
from routrel.routing import eigrp
from routrel.routing.isis import solution as isis_solution
from routrel.routing.observed import is_observed_only, observed_in
from routrel.routing.ospf import externals
from routrel.routing.routes import NextHop
from routrel.routing.rows import Injected, Process, ProtocolSolution
from routrel.routing.solve import Solved
from routrel.routing.static import resolve_static, static_candidates

DEFAULT_METRICS = {
    "ospf": externals.DEFAULT_METRIC,
    "isis": isis_solution.DEFAULT_METRIC,
    "eigrp": eigrp.DEFAULT_METRIC,
}


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
        self._solution_number = {id(solution): number for number, solution in enumerate(solved.solutions)}
        self.ospf: dict[int, ospf.OspfPlain] = {
            id(solution): ospf.OspfPlain(
                solution, self.costs, self._metrics(solution), base.ospf[id(solution)] if base else None
            )
            for solution in solved.ospf
        }
        self.isis: isis.IsisPlain = isis.IsisPlain(
            solved.isis,
            self._injected(solved.isis),
            self.costs,
            self._metrics(solved.isis),
            base.isis if base else None,
        )
        self._origins: dict[tuple[int, int], dict[int, set[int]]] = {}
        self._rip: dict[Prefix, vectors.RipPlain] = {}
        self._eigrp: dict[Prefix, vectors.EigrpPlain] = {}
        self._bgp: dict[Prefix, bgp.BgpPlain] = {}

    def _injected(self, solution: ProtocolSolution) -> Mapping[int, Injected]:
        number = self._solution_number[id(solution)]
        return self.solved.settling.injected[number]

    def _metrics(self, solution: ProtocolSolution) -> dict[int, int]:
        """Overridden metrics of one solution's processes."""
        number = self._solution_number[id(solution)]
        return {process: metric for (of, process), metric in self.metrics.items() if of == number}

    def contest(self, instance: int, prefix: Prefix) -> Contest:
        """All candidates for a prefix of the network in a routing instance; ``KeyError`` for any other prefix."""
        self.solved.prefixes.number[prefix]
        return self.decide(instance, prefix, self.candidates(instance, prefix))

    def decide(self, instance: int, prefix: Prefix, candidates: list[Candidate]) -> Contest:
        """The rounds among some candidates, which they note down."""
        is_trial = bool(self.costs or self.metrics)
        return Elimination(self.solved, instance, prefix, candidates, with_detours=not is_trial).run()

    def candidates(self, instance: int, prefix: Prefix) -> list[Candidate]:
        """Everything that is offered for a prefix, in the order of protocols."""
        if is_observed_only(self.topology, instance):
            return self._observed(instance, prefix)
        found = [*self._connected(instance, prefix), *self._static(instance, prefix)]
        for solution, process in self.solved.processes_of(instance):
            if prefix.family in process.families:
                offered = self._of_process(solution, process, prefix)
                found += [
                    replace(one, processes=(self._solution_number[id(solution)], process.number)) for one in offered
                ]
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
        inactive = {id(route): reason for route, reason in self.solved.unresolved[instance]}
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
            reason = inactive.get(id(static), "" if resolution else reason)
            if reason or resolution is None:
                candidate.out = reason
            else:
                candidate.action, candidate.next_hops = resolution
            found.append(candidate)
        return found

    def _observed(self, instance: int, prefix: Prefix) -> list[Candidate]:
        failed = {id(route): reason for route, reason in self.solved.unresolved.get(instance, [])}
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
                        out=failed.get(id(observed), ""),
                        unsaid=tuple(k for k in ("preference", "metric") if getattr(observed, k) is None),
                    )
                )
        return found

    def _of_process(self, solution: ProtocolSolution, process: Process, prefix: Prefix) -> list[Candidate]:
        preference = 0 if solution is self.solved.bgp else self._preference(process.instance, process.protocol)
        if id(solution) in self.ospf:
            return list(self.ospf[id(solution)].candidates(process.number, prefix, preference))
        if solution is self.solved.isis:
            return list(self.isis.candidates(process.number, prefix, preference))
        if solution is self.solved.rip:
            return list(self.rip(prefix).candidates(process.number, preference))
        if solution is self.solved.bgp:
            kinds = self._preference(process.instance, "ebgp"), self._preference(process.instance, "ibgp")
            return list(self.bgp(prefix).candidates(process.number, *kinds))
        external = self._preference(process.instance, "eigrp_external")
        return list(self.eigrp(prefix).candidates(process.number, preference, external))

    def rip(self, prefix: Prefix) -> vectors.RipPlain:
        """RIP for one prefix, over the whole network."""
        if prefix not in self._rip:
            settling, solution = self.solved.settling, self.solved.rip
            number = self._solution_number[id(solution)]
            column = self.solved.representatives.column_of(prefix)
            silent = {process: bool(unused[column]) for process, unused in settling.blocked[number].items()}
            self._rip[prefix] = vectors.RipPlain(
                solution, settling.injected[number], silent, prefix, self.costs, self._metrics(solution)
            )
        return self._rip[prefix]

    def eigrp(self, prefix: Prefix) -> vectors.EigrpPlain:
        """EIGRP for one prefix, over the whole network."""
        if prefix not in self._eigrp:
            solution = self.solved.eigrp
            number = self._solution_number[id(solution)]
            self._eigrp[prefix] = vectors.EigrpPlain(
                solution, self.solved.settling.injected[number], prefix, self.costs, self._metrics(solution)
            )
        return self._eigrp[prefix]

    def bgp(self, prefix: Prefix) -> bgp.BgpPlain:
        """BGP for one prefix, over the whole network."""
        if prefix not in self._bgp:
            settling, solution = self.solved.settling, self.solved.bgp
            number = self._solution_number[id(solution)]
            column = self.solved.representatives.column_of(prefix)
            blocked = {process for process, off in settling.blocked[number].items() if off[column]}
            self._bgp[prefix] = bgp.BgpPlain(solution, settling.injected[number], blocked, prefix)
        return self._bgp[prefix]

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
        if kind not in self._origins:
            self._origins[kind] = self._origins_of(*kind)
        return sorted(self._origins[kind].get(prefix.network >> BITS[prefix.family] - prefix.length, ()))

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

    def default_metric(self, solution: int, process: int) -> int:
        """The metric a process gives to what it puts in where no rule and no policy says one."""
        found = self.solved.solutions[solution].processes[process]
        routing = self.topology.instances[found.instance].routing
        if found.protocol == "rip" and routing is not None and routing.rip is not None:
            return routing.rip.default_metric
        return DEFAULT_METRICS[found.protocol]
