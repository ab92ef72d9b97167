"""Why a prefix is absent: how far it came from each origin, and what stopped it, with the statement."""

from collections import Counter, deque
from collections.abc import Collection
from functools import cached_property
from itertools import islice

from routrel.analysis.contest.candidates import Contest
from routrel.analysis.contest.explainer import Explainer, Node
from routrel.analysis.contest.idle_origins import down_towards, idle_steps
from routrel.analysis.contest.policies import Asked, ask
from routrel.analysis.contest.trail import Step, Trail
from routrel.model.addresses import Address, Prefix
from routrel.model.fields import replace
from routrel.model.findings import some_of
from routrel.model.places import NOWHERE, Place
from routrel.routing.protocol import AnySolution, Process
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.routes import Route

MOST_TRAILS = 12

MOST_ASKED = 8
"""Of so many routers that announce a prefix in one protocol it is asked where it stops."""

MOST_RELAYS = 8
"""Routers that would put a prefix into another protocol, and do not hear of it: so many are asked why."""

MOST_FURTHER = 3
"""Trails of what a next hop or a neighbour would be reached by."""

MOST_FOLLOWED = 2
"""A next hop without a route may hang on another in turn: so many are followed."""


MOST_COVERING = 3
"""Prefixes that hold an address: of so many shorter ones it is asked where they stop."""

MOST_INSIDE, MOST_LOOKED_AT = 2, 1000
"""Of the prefixes within a range or an aggregate so many are followed, among so many."""


class Tracer:
    """Follows one prefix from its origins towards one routing instance."""

    def __init__(self, explainer: Explainer, instance: int, prefix: Prefix, depth: int = 0):
        """``depth`` counts the next hops and neighbours that are being followed."""
        self.explainer = explainer
        self.depth = depth
        self.most = MOST_FURTHER if depth else MOST_TRAILS
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
        self._found: list[Trail] = []
        self._seen: set[Node] = set()
        self._queue: deque[tuple[Node, tuple[Step, ...]]] = deque()
        self._asked = Counter[int]()

    def _solution_number(self, solution: AnySolution) -> int:
        return next(n for n, one in enumerate(self.solved.solutions) if one is solution)

    def trails(self) -> list[Trail]:
        """One trail per place at which the prefix stopped: those that lead on from it first, nearest to the origins,
        then what is told it and does not have it, then where nothing tells it to go on."""
        idle: list[Trail] = []
        for origin in sorted(self.explainer.origins(self.prefix), key=lambda one: one != self.instance):
            route = self._original(origin)
            if route is None and len(idle) < self.most:
                idle += [Trail((step,)) for step in idle_steps(self.explainer, origin, self.prefix)]
            elif route is not None and self.wanted:
                self._set_out(origin, route)
        if not self.wanted:
            return self._followed([*idle, Trail((self._knows_nobody(),))])
        self._follow()
        for number, contest in enumerate(self.explainer.contests):
            for process in contest.saying(self.prefix):
                self._reach((number, process), (self._said_itself(number, process),))
        self._follow()
        meant = [trail for trail in self._found if not trail.steps[-1].unstated]
        meant.sort(key=lambda trail: trail.steps[-1].lacks is not None)
        unmeant = [trail for trail in self._found if trail.steps[-1].unstated]
        found = [*([*meant, *idle] or self._without_origin()), *unmeant]
        return self._followed(found or [Trail((self._carried_elsewhere(self._seen),))])

    def _followed(self, found: list[Trail]) -> list[Trail]:
        """Each once by its last step; where that lacks a route to somewhere, on to why it does."""
        unique: dict[Step, Trail] = {}
        for trail in found:
            unique.setdefault(trail.steps[-1], trail)
        kept, told = list[Trail](), set[tuple[Place, ...]]()
        for trail in list(unique.values())[: self.most]:
            for further in self._on_from(trail):
                stated = further.steps[-1].place, *further.steps[-1].others
                # What was gone on to may be one thing behind several.
                if further is trail or not stated[0] or stated not in told:
                    kept.append(further)
                told.add(stated)
        return kept[: self.most]

    def _on_from(self, trail: Trail) -> list[Trail]:
        last, onward = trail.steps[-1], list[Trail]()
        if self.depth == MOST_FOLLOWED:
            return [trail]
        if last.empty is not None:
            for inside in self._missing_inside(last.instance, last.empty):
                further = trails(self.explainer, self.explainer.contest(last.instance, inside), self.depth + 1)
                onward += [one for one in _meant(further) or further if one.steps[-1].place]
        elif last.lacks is not None:
            instance, address = last.lacks
            onward = [Trail((step,)) for step in down_towards(self.explainer, instance, address)]
            if not onward:
                _, further = trails_towards(self.explainer, instance, address, self.depth + 1)
                onward = _meant(further) or further
        return [Trail((*trail.steps, *one.steps)) for one in onward] or [trail]

    def _missing_inside(self, instance: int, prefix: Prefix) -> list[Prefix]:
        """Prefixes within another that somebody has and an instance does not."""
        table, every = self.solved.table(instance), self.solved.prefixes.prefixes
        numbers = range(*self.solved.prefixes.covered(prefix).indices(len(every)))
        carried = self.solved.prefix_classes.is_carried
        absent = (every[one] for one in numbers[1 : 1 + MOST_LOOKED_AT] if carried[one] and table.get(one) is None)
        return list(islice((one for one in absent if self.explainer.origins(one)), MOST_INSIDE))

    def _set_out(self, origin: int, route: Route) -> None:
        """From an instance that has the prefix into its protocols."""
        what = {"connected": "connected", "local": "its own address", "static": "a static route"}
        text = f"{self.topology.instance_name(origin)} has it: {what.get(route.protocol, route.protocol)}"
        first = Step(origin, text, route.place)
        for node, step in self._enter(origin, None):
            if step.stopped:
                self._found.append(Trail((first, step)))
            else:
                self._reach(node, (first, step))
        device = self.topology.devices[self.topology.instances[origin].device]
        if not self.solved.processes_of(origin) and device.kind != "host":
            alone = Step(origin, "no routing protocol runs there", first.place, True, unstated=True)
            self._found.append(Trail((first, alone)))

    def _said_itself(self, number: int, process: int) -> Step:
        """Of a process that says the prefix whatever the table has."""
        of = self.solved.solutions[number].processes[process]
        default = of.originate_default if self.prefix.length == 0 else None
        text = f"{of.protocol} on {self.topology.instance_name(of.instance)} says it of itself"
        return Step(of.instance, text, default.place if default is not None else of.place)

    def _reach(self, node: Node, steps: tuple[Step, ...]) -> None:
        if node not in self._seen:
            self._seen.add(node)
            self._queue.append((node, steps))

    def _follow(self) -> None:
        """Within protocols, and from one into another, as far as the prefix came."""
        wanted = {solution for solution, _ in self.wanted}
        while self._queue and len(self._found) < 4 * MOST_TRAILS:
            node, steps = self._queue.popleft()
            self._asked[node[0]] += 1
            if self._asked[node[0]] <= MOST_ASKED:
                self._found += [Trail((*steps, step)) for step in (*self._stops_before(node), *self._unheard(node))]
            # Who has it in a protocol is the same, whoever announces it.
            for instance in self._carriers(node[0]) if self._asked[node[0]] == 1 else ():
                for onward, step in self._enter(instance, node):
                    if not step.stopped:
                        self._reach(onward, (*steps, step))
                    elif onward not in self._seen and onward[0] in (wanted if step.unstated else self._leading):
                        self._found += [] if self._has(onward) else [Trail((*steps, step))]

    def _has(self, node: Node) -> bool:
        """Whether a process hears of the prefix in its own protocol, so that nothing is amiss if it is not put in."""
        process = self.solved.solutions[node[0]].processes[node[1]]
        sources = self.solved.table(process.instance).sources
        return any(one.process is process and one.rows.kind[self.column] != NO_ROUTE for one in sources)

    @cached_property
    def _leading(self) -> set[int]:
        """The solutions that routers are told to put into others so that it comes here, those of here included."""
        found = {solution for solution, _ in self.wanted}
        while more := {node[0] for node, into in self.explainer.redistributing if into in found} - found:
            found |= more
        return found

    def _unheard(self, node: Node) -> list[Step]:
        """Why routers that would put what a process announces into another protocol, towards here, do not hear it."""
        of = self.solved.solutions[node[0]]
        relays = {
            process
            for (number, process), into in self.explainer.redistributing
            if number == node[0] and into in self._leading and into != number and process != node[1]
        }
        asked = sorted(relays)[: 8 * MOST_RELAYS]
        lacking = [one for one in asked if not self._has((node[0], one))]
        contest = self.explainer.contests[node[0]]
        return [
            step
            for process in lacking[:MOST_RELAYS]
            if not self._brings(node[0], of.processes[process])
            for step in contest.stops(self.solved, self.prefix, node[1], process)
        ]

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
        return [
            Trail((step,))
            for number, contest in enumerate(self.explainer.contests)
            for step in contest.without_origin(
                self.solved, self.prefix, sorted(p for of, p in self.wanted if of == number)
            )
        ]

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
            if self._has((solution, process.number)) or self._brings(solution, process):
                found.append(process.instance)
        return found

    def _brings(self, solution_number: int, process: Process) -> bool:
        """Whether a process brings the prefix into its protocol: as a network of its own, or put in."""
        contest = self.explainer.contests[solution_number]
        return contest.puts_in(process.number, self.prefix) or contest.brings(process.number, self.prefix)

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
            return Step(instance, f"{name} does not announce it: {said}", process.place, True, unstated=True)
        if rule is None:
            hint = "it stands in none of its interfaces, and " if protocol == "connected" else ""
            return Step(
                instance,
                f"{name} does not announce it: {hint}'redistribute' says nothing from {protocol}",
                process.place,
                True,
                unstated=True,
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


def trails(explainer: Explainer, contest: Contest, depth: int = 0) -> list[Trail]:
    """How far a prefix came towards an instance without a route for it: here, or from each of its origins."""
    return _kept_out(contest) or Tracer(explainer, contest.instance, contest.prefix, depth).trails()


def trails_towards(
    explainer: Explainer, instance: int, address: Address, depth: int = 0
) -> tuple[Prefix | None, list[Trail]]:
    """How far came what would lead an instance without a route to an address, and of which prefix that is told: the
    longest that holds it, or a shorter one where nothing tells that one to come."""
    longest = explainer.told_of(address)
    if longest is None:
        return None, []
    contest = explainer.contest(instance, longest)
    if contest.winners:
        return longest, []
    found = trails(explainer, contest, depth)
    if _meant(found):
        return longest, found
    chain = [explainer.solved.prefixes.prefixes[number] for number in explainer.solved.prefixes.chain(address)]
    for prefix in [one for one in chain if one.length < longest.length][:MOST_COVERING]:
        contest = explainer.contest(instance, prefix)
        covering = [] if contest.winners else _meant(trails(explainer, contest, depth))
        if covering := [one for one in covering if one.steps[-1].place]:
            return prefix, [_leading(prefix, one) for one in covering]
    return longest, found


def _meant(found: list[Trail]) -> list[Trail]:
    """Those at whose end something tells the prefix to go on."""
    return [one for one in found if not one.steps[-1].unstated]


def _leading(prefix: Prefix, trail: Trail) -> Trail:
    """A trail with the prefix that it is of, where it is not the one that is asked about."""
    *before, last = trail.steps
    return Trail((*before, replace(last, text=f"{prefix} would lead there: {last.text}")))


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
