"""Why a prefix is absent: how far it came from each origin, and what stopped it, with the statement."""

from collections import deque
from collections.abc import Collection

from routrel.analysis.contest.candidates import Contest
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.policies import Asked, ask
from routrel.analysis.contest.trail import Step, Trail
from routrel.model.addresses import Prefix
from routrel.model.findings import some_of
from routrel.model.places import NOWHERE, Place
from routrel.routing.protocol import AnySolution, Process
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.routes import Route

MOST_TRAILS = 12


Node = tuple[int, int]
"""(solution, process)."""


class Tracer:
    """Follows one prefix from its origins towards one routing instance."""

    def __init__(self, explainer: Explainer, instance: int, prefix: Prefix):
        self.explainer = explainer
        self.solved = explainer.solved
        self.topology = explainer.topology
        self.instance = instance
        self.prefix = prefix
        self.number = self.solved.prefixes.number[prefix]
        self.column = self.solved.prefix_classes.column_of(prefix)
        self.wanted = {
            (self._solution_number(solution), process.number)
            for solution, process in self.solved.processes_of(instance)
            if prefix.family in process.families
        }

    def _solution_number(self, solution: AnySolution) -> int:
        return next(n for n, one in enumerate(self.solved.solutions) if one is solution)

    def trails(self) -> list[Trail]:
        """One trail per place at which the prefix stopped, nearest to the origins first."""
        found: list[Trail] = []
        if not self.wanted:
            return [Trail((self._knows_nobody(),))]
        queue: deque[tuple[Node, tuple[Step, ...]]] = deque()
        seen: set[Node] = set()
        for origin in self.explainer.origins(self.prefix):
            route = self._original(origin)
            if route is None:
                continue
            what = {"connected": "connected", "local": "its own address", "static": "a static route"}
            first = Step(
                origin,
                f"{self.topology.instance_name(origin)} has it: {what.get(route.protocol, route.protocol)}",
                route.place,
            )
            for node, step in self._enter(origin, None):
                if step.stopped:
                    found.append(Trail((first, step)))
                elif node not in seen:
                    seen.add(node)
                    queue.append((node, (first, step)))
            if (
                not self.solved.processes_of(origin)
                and self.topology.devices[self.topology.instances[origin].device].kind != "host"
            ):
                found.append(Trail((first, Step(origin, "no routing protocol runs there", first.place, True))))
        while queue and len(found) < 4 * MOST_TRAILS:
            node, steps = queue.popleft()
            found += [Trail((*steps, step)) for step in self._stops_before(node)]
            for instance in self._carriers(node[0]):
                for onward, step in self._enter(instance, node):
                    if onward in seen:
                        continue
                    if step.stopped:
                        if onward[0] in {solution for solution, _ in self.wanted}:
                            found.append(Trail((*steps, step)))
                        continue
                    seen.add(onward)
                    queue.append((onward, (*steps, step)))
        found = found or self._without_origin() or [Trail((self._carried_elsewhere(seen),))]
        unique: dict[Step, Trail] = {}
        for trail in found:
            unique.setdefault(trail.steps[-1], trail)
        return list(unique.values())[:MOST_TRAILS]

    def _knows_nobody(self) -> Step:
        """Of an instance without routing protocols: it cannot hear of anything."""
        found = self.topology.instances[self.instance]
        routing, device = found.routing, self.topology.devices[found.device]
        if routing is None and device.observed:
            text = f"the table of {self.topology.instance_name(self.instance)} was read off it, and has no route for it"
            return Step(self.instance, text, device.observed[0].place, True)
        text = (
            f"{self.topology.instance_name(self.instance)} runs no routing protocol for IPv{self.prefix.family}:"
            " it knows its interfaces and its static routes"
        )
        return Step(self.instance, text, routing.place if routing else device.place, True)

    def _without_origin(self) -> list[Trail]:
        """Of a prefix that stops nowhere on its way since it never set out."""
        return [Trail((step,)) for contest in self.explainer.contests for step in contest.without_origin(self.prefix)]

    def _carried_elsewhere(self, seen: Collection[Node]) -> Step:
        """Of a prefix that some protocols carry, and none to a router that could pass it on to here."""
        origins = self.explainer.origins(self.prefix)
        if not origins:
            return Step(self.instance, f"no device has {self.prefix}", NOWHERE, True)
        text = f"nothing carries it from {some_of([self.topology.instance_name(origin) for origin in origins], 3)}"
        carriers = sorted({self.solved.solutions[number].protocol for number, _ in seen})
        if carriers:
            wanted = sorted({self.solved.solutions[number].protocol for number, _ in self.wanted})
            text += (
                f" to here: {' and '.join(carriers)} has it, and no router that has it by {' or '.join(carriers)} runs"
                f" {' or '.join(wanted)} as {self.topology.instance_name(self.instance)} does"
            )
        return Step(self.instance, text, NOWHERE, True)

    def _original(self, instance: int) -> Route | None:
        """The route of an instance that is the prefix's origin: connected, static or observed."""
        return self.solved.table(instance).other(self.number)

    def _carriers(self, solution: int) -> list[int]:
        """Instances with another process besides one of this solution that has the prefix."""
        found = []
        for process in self.solved.solutions[solution].processes:
            if len(self.solved.processes_of(process.instance)) < 2:
                continue
            table = self.solved.table(process.instance)
            for source in table.sources:
                if source.process is process and (
                    source.rows.kind[self.column] != NO_ROUTE or self._brings(solution, process)
                ):
                    found.append(process.instance)
        return found

    def _brings(self, solution_number: int, process: Process) -> bool:
        """Whether a process brings the prefix into its protocol: as a network of its own, or put in."""
        contest = self.explainer.contests[solution_number]
        put_in = contest.redistributed.get(process.number)
        return (put_in is not None and put_in.position(self.column) is not None) or contest.brings(
            process.number, self.prefix
        )

    def _enter(self, instance: int, by: Node | None) -> list[tuple[Node, Step]]:
        """Into which processes of an instance the prefix goes, and why not into the others."""
        result = []
        for solution, process in self.solved.processes_of(instance):
            number = self._solution_number(solution)
            node = (number, process.number)
            if node == by or self.prefix.family not in process.families:
                continue
            name = f"{process.protocol} on {self.topology.instance_name(instance)}"
            if self._brings(number, process):
                result.append((node, Step(instance, f"{name} announces it", self._announce_place(process, by))))
            else:
                result.append((node, self._not_put_in(instance, number, process, name, by)))
        return result

    def _announce_place(self, process: Process, by: Node | None) -> Place:
        if by is not None and process.redistribute:
            source = self.solved.solutions[by[0]].protocol
            return next((rule.place for rule in process.redistribute if rule.source == source), process.place)
        return process.place

    def _not_put_in(self, instance: int, number: int, process: Process, name: str, by: Node | None) -> Step:
        """Why a process does not announce a prefix that its device has."""
        table = self.solved.table(instance)
        best = table.get(self.number)
        route = table.other(self.number)
        if by is not None:
            index = next(
                (
                    i
                    for i, s in enumerate(table.sources)
                    if s.process is self.solved.solutions[by[0]].processes[by[1]]
                    or s.solution is self.solved.solutions[by[0]]
                ),
                None,
            )
            route = table.source_route(index, self.number) if index is not None else route
        protocol = route.protocol if route is not None else "connected"
        rule = next((rule for rule in process.redistribute if rule.source == protocol), None)
        own_rules = self.explainer.contests[number].own_rules
        if rule is None and own_rules:
            said = own_rules.format(protocol=protocol)
            return Step(instance, f"{name} does not announce it: {said}", process.place, True)
        if rule is None:
            hint = "stands in none of its interfaces, and " if protocol == "connected" else ""
            return Step(
                instance,
                f"{name} does not announce it: it {hint}'redistribute' says nothing from {protocol}",
                process.place,
                True,
            )
        if route is not None and best is not None and best.protocol != route.protocol:
            return Step(
                instance,
                f"{name} does not announce it: in the table {best.protocol} beats {route.protocol} there, and only"
                " best routes are redistributed",
                rule.place,
                True,
            )
        if rule.policy is not None and route is not None:
            policy = self.topology.devices[self.topology.instances[instance].device].policies[rule.policy]
            hops = tuple(hop.address for hop in route.next_hops if hop.address is not None)
            decision = ask(policy, Asked(self.prefix, protocol, route.metric or 0, route.tag, hops))
            if not decision.accepted:
                place = decision.by.place if decision.by is not None else policy.place
                return Step(instance, f"{name} does not announce it: {decision.words(policy)}", place, True)
        return Step(instance, f"{name} does not announce it", rule.place, True)

    def _stops_before(self, node: Node) -> list[Step]:
        """Why the prefix, announced by a process, does not come to the wanted processes of its protocol."""
        contest = self.explainer.contests[node[0]]
        wanted = sorted(process for number, process in self.wanted if number == node[0] and process != node[1])
        return [step for process in wanted for step in contest.stops(self.solved, self.prefix, node[1], process)]


def trails(explainer: Explainer, contest: Contest) -> list[Trail]:
    """How far a prefix came towards an instance without a route for it: here, or from each of its origins."""
    return _kept_out(contest) or Tracer(explainer, contest.instance, contest.prefix).trails()


def _kept_out(contest: Contest) -> list[Trail]:
    """Of a prefix that came all the way: what the install policy says of each candidate."""
    found = []
    for one in contest.candidates:
        if not one.out and one.beaten >= 0 and contest.rounds[one.beaten].name == "install policy":
            by = contest.rounds[one.beaten]
            words = next(text for index, text in by.values if contest.candidates[index] is one)
            text = f"it comes here by {one.protocol} ({one.origin}), and install {words}"
            found.append(Trail((Step(contest.instance, text, by.place, True),)))
    return found
