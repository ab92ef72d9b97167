"""Redistribution settled over few columns: one for all prefixes it cannot tell apart.

In link-state protocols a route from outside loses to a route of the protocol's own (OSPF) and costs every
router the same whatever its prefix. What a redistributing router does with a prefix then hangs on what its
table and policies say of it, not on what it costs. Prefixes of which all such routers say the same are put
in and left out alike, round by round, and are settled as one.

In IS-IS a router's own prefix competes by cost with the same prefix put in; where that happens, and where
other protocols take part, redistribution is settled over all columns.
"""

from collections.abc import Hashable, Iterable
from contextlib import suppress
from typing import Any

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.routing.arrays import UNSET, Column, Flags
from routrel.routing.policies import matching
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol_routes import ProtocolRoutes
from routrel.routing.redistributed import Redistributed
from routrel.routing.redistribution.fixed_point import FixedPoint, Memory
from routrel.routing.rib.builder import TableBuilder
from routrel.routing.routes import Route

WORTHWHILE = 20_000
"""Looks at fewer columns than this, over all instances, cost less than to find out which are alike."""

MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)


class _ToldApartError(Exception):
    """Prefixes taken for alike are not."""


def redistribute(builder: TableBuilder, known: Memory | None = None) -> FixedPoint:
    """Redistribution run to its end, over classes of columns where that is the same and worthwhile.

    ``known`` is what was seen in the network this one is solved from, where that has other sessions and policies alone.
    """
    fixed_point = FixedPoint(builder, known=known)
    is_worthwhile = len(fixed_point.seats) * len(builder.prefix_classes) >= WORTHWHILE
    if is_worthwhile and all(solution.is_restrictable for solution in builder.solutions):
        with suppress(_ToldApartError):
            return _by_class(builder, fixed_point)
    return fixed_point.run()


def _by_class(builder: TableBuilder, fixed_point: FixedPoint) -> FixedPoint:
    columns = builder.prefix_classes
    alike = _Alike(builder, list(fixed_point.seats)).classes()
    alike[columns.standing[columns.first] < 0] = -1
    classes = PrefixClasses(columns.whole, alike[columns.column])
    class_of = classes.column[columns.first]
    is_mixed = np.bincount(class_of) > 1
    solutions = [solution.over(classes) for solution in builder.solutions]
    competing = [solution.competing_columns() & is_mixed for solution in solutions]

    def watch(redistributed: list[dict[int, Redistributed]]) -> None:
        for own, put_in in zip(competing, redistributed, strict=True):
            if own.any() and any(own[found.numbers].any() for found in put_in.values()):
                raise _ToldApartError

    fixed_point.take_over(FixedPoint(builder.over(classes, solutions), watch).run(), class_of)
    return fixed_point


class _Alike:
    """What redistributing instances say of each of c columns while nothing is put in, told column by column."""

    def __init__(self, builder: TableBuilder, instances: list[int]):
        self.builder = builder
        self.topology = builder.topology
        self.prefixes = builder.prefix_classes
        self._digest = np.zeros(len(self.prefixes), np.uint64)
        self._told: list[npt.NDArray[np.generic]] = []
        self._alone: set[int] = set()
        """Columns that others hang on, each like no other."""
        self._codes: dict[Hashable, int] = {}
        self._competing: list[Flags] = []
        """By solution, what routers bring in themselves and others may put in at a lower cost."""
        for family in (4, 6):
            default = self.prefixes.number.get(Prefix(family, 0, 0))
            self._alone |= set() if default is None else {default}
        self._tell(self.prefixes.is_ipv6)
        asking = {self.topology.instances[instance].device for instance in instances}
        for solution in builder.solutions:
            self._competing.append(solution.competing_columns())
            asking |= {self.topology.instances[one].device for one in solution.instances_asking_policies()}
            self._hang_on(solution.forwarding_addresses())
        lists = {
            statement.match.prefixes: None
            for device in sorted(asking)
            for policy in self.topology.devices[device].policies.values()
            for statement in policy.statements
            if statement.match.prefixes is not None
        }
        self._tell(np.logical_or.reduce(self._competing))
        for matches in lists:
            self._tell(matching(matches, self.prefixes))
        looking = set(instances)
        for solution in builder.solutions:
            solution.prepare([process.number for process in solution.processes if process.instance in looking])
        for instance in instances:
            self._look(instance)

    def classes(self) -> Column:
        """Numbers from 0, int64 (c,), the same for columns of which all was the same."""
        alone = np.zeros(len(self.prefixes), np.int64)
        alone[sorted(self._alone)] = np.arange(1, len(self._alone) + 1)
        self._tell(alone)
        _, first, inverse = np.unique(self._digest, return_index=True, return_inverse=True)
        inverse = inverse.reshape(-1)
        like = first[inverse]
        if any((told != told[like]).any() for told in self._told):
            raise _ToldApartError  # two digests are equal by chance
        return inverse

    def _tell(self, column: npt.NDArray[Any]) -> None:
        self._told.append(column)
        self._digest = self._digest * MULTIPLIER + column.astype(np.uint64)

    def _hang_on(self, addresses: Iterable[Address]) -> None:
        for address in addresses:
            self._alone.update(self.prefixes.chain(address))

    def _look(self, instance: int) -> None:
        processes, base = self.builder.processes[instance], self.builder.base(instance)
        sources = [solution.routes_of(process.number) for solution, process in processes]
        standing = base.table.route_columns()
        for solution, process in processes:
            # Own prefixes that it may put in as well, say as connected ones: there the lower cost counts.
            taken = {rule.source for rule in process.redistribute}
            competing = self._competing[self.builder.solutions.index(solution)][standing.numbers]
            both = np.array([route.protocol in taken for route in standing.routes], np.bool_) & competing
            self._alone.update(standing.numbers[both].tolist())
        outward = self._outward(instance, sources, standing.routes)
        self._hang_on(outward)
        is_close = bool(outward) or self._asks_closely(instance)
        codes = np.zeros(len(self.prefixes), np.int64)
        codes[standing.numbers] = [self._code(route, is_close) for route in standing.routes]
        self._tell(codes)
        for static in base.others.candidates:
            # Its own prefix, and those its next hop may resolve through.
            self._alone.add(self.prefixes.column_of(static.prefix))
            self._hang_on([static.next_hop] if static.next_hop is not None else [])
        for routes in sources:
            self._tell(routes.kind * np.int8(2) + routes.present())
            if routes.tag is not None and (routes.tag != UNSET).any():
                self._tell(routes.tag)  # set where a router leaked it
            if is_close:
                self._tell(routes.metric)
                for words in routes.masks:
                    self._tell(words)

    def _code(self, route: Route, is_close: bool) -> int:
        """A number for all that redistribution asks of a connected or static route."""
        said: Hashable = (route.protocol, route.preference, route.metric, route.tag)
        if is_close:
            said = said, route.next_hops, route.given_next_hops
        return self._codes.setdefault(said, len(self._codes) + 1)

    def _asks_closely(self, instance: int) -> bool:
        """Whether a policy of the instance asks for metrics or next hops."""
        found = self.topology.instances[instance]
        policies = self.topology.devices[found.device].policies
        asked = {rule.policy for _, process in self.builder.processes[instance] for rule in process.redistribute}
        asked.add(found.routing.install_policy if found.routing else None)
        return any(
            statement.match.metric is not None or statement.match.next_hops is not None
            for name in asked
            if name is not None
            for statement in policies[name].statements
        )

    def _outward(self, instance: int, sources: list[ProtocolRoutes], standing: Iterable[Route]) -> set[Address]:
        """Next hops of other protocols that one may say as forwarding addresses (RFC 2328 section 12.4.4.1)."""
        found: set[Address] = set()
        for solution, process in self.builder.processes[instance]:
            ports = solution.forwarding_ports(process.number) if process.takes_routes else None
            if not ports:
                continue
            others = [
                routes
                for routes, (_, other) in zip(sources, self.builder.processes[instance], strict=True)
                if other is not process
            ]
            of_sources = (hop for routes in others for hops in routes.hops.values() for hop in hops if hop is not None)
            of_standing = (hop for route in standing for hop in route.next_hops)
            hops = (*of_sources, *of_standing)
            found |= {hop.address for hop in hops if hop.port in ports and hop.address is not None}
        return found
