"""A routing policy asked of one route, in plain code, with the statement that decided (RFC 9067)."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from routrel.model.addresses import Address, Prefix
from routrel.model.fields import field_names, replace
from routrel.model.places import Place
from routrel.model.policies import Policy, PolicyMatch, PolicySet, PolicyStatement
from routrel.routing.arrays import UNSET
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol_routes import ProtocolRoutes


@dataclass(frozen=True, slots=True)
class PathSeen:
    """A BGP path as a policy sees it; ``neighbor`` is whom it comes from or goes to."""

    as_path: tuple[int, ...] = ()
    med: int | None = None
    communities: frozenset[str] = frozenset()
    neighbor: Address | None = None


@dataclass(frozen=True, slots=True)
class Asked:
    """A route as a policy sees it; ``path`` where it is BGP's, or becomes so."""

    prefix: Prefix
    protocol: str
    metric: int
    tag: int | None = None
    next_hops: tuple[Address, ...] = ()
    path: PathSeen | None = None


@dataclass(frozen=True, slots=True)
class Decision:
    """``statement`` counts from 1; None is the closing reject, which no statement states."""

    accepted: bool
    statement: int | None
    by: PolicyStatement | None
    set: PolicySet
    touched: tuple[int, ...] = ()
    """Statements that applied their sets and went on."""
    path: PathSeen | None = None
    """The path as the sets made it."""

    def words(self, policy: Policy) -> str:
        """What decided, in words."""
        verb = "accepts" if self.accepted else "rejects"
        if self.statement is None:
            return f"policy {policy.name} {verb} it: no statement decides, and what none decides is rejected"
        name = f" ({self.by.name})" if self.by is not None and self.by.name else ""
        earlier = ", ".join(map(str, self.touched))
        before = f", after statement {earlier} changed it" if self.touched else ""
        return f"policy {policy.name} {verb} it: statement {self.statement}{name}{before}"


def ask(policy: Policy, route: Asked) -> Decision:
    """Statements in order; the first that matches and does not go on decides."""
    found = PolicySet()
    touched: list[int] = []
    for number, statement in enumerate(policy.statements, 1):
        if not _matches(statement, route):
            continue
        changes = {
            name: value for name in field_names(PolicySet) if (value := getattr(statement.set, name)) is not None
        }
        if "next_hop" in changes:
            changes["next_hop_self"] = None
        found = replace(found, **changes)
        route = _changed(route, statement.set)
        if statement.result != "continue":
            return Decision(statement.result == "accept", number, statement, found, tuple(touched), route.path)
        touched.append(number)
    return Decision(False, None, None, found, tuple(touched), route.path)


def _changed(route: Asked, sets: PolicySet) -> Asked:
    """A route as later statements see it."""
    path, hops, metric = route.path, route.next_hops, sets.metric
    if path is not None:
        med = sets.med if sets.med is not None else sets.metric
        path = replace(
            path,
            med=path.med if med is None else med,
            as_path=path.as_path if sets.as_path_prepend is None else sets.as_path_prepend.applied(path.as_path),
            communities=path.communities if sets.communities is None else sets.communities.applied(path.communities),
        )
        hops = hops if sets.next_hop is None else (sets.next_hop,)
    return replace(
        route,
        metric=route.metric if metric is None else metric,
        tag=route.tag if sets.tag is None else sets.tag,
        next_hops=hops,
        path=path,
    )


def _matches(statement: PolicyStatement, route: Asked) -> bool:
    match = statement.match
    if match.prefixes is not None and not any(one.matches(route.prefix) for one in match.prefixes):
        return False
    if match.protocols is not None and route.protocol not in match.protocols:
        return False
    if match.tag is not None and (route.tag or 0) != match.tag:
        return False
    if match.metric is not None and route.metric != match.metric:
        return False
    if match.next_hops is not None and not _any_of(match.next_hops, route.next_hops):
        return False
    return not match.asks_path or (route.path is not None and _fits(match, route.path))


def _fits(match: PolicyMatch, path: PathSeen) -> bool:
    return (
        (match.med is None or path.med == match.med)
        and (match.neighbors is None or path.neighbor in match.neighbors)
        and (match.as_path is None or match.as_path.matches(path.as_path))
        and (match.communities is None or match.communities.matches(path.communities))
    )


def _any_of(wanted: Iterable[Address], given: tuple[Address, ...]) -> bool:
    return any(address in given for address in wanted)


@dataclass(frozen=True, slots=True)
class RouteMet:
    """A route that meets a policy: its column and how the policy sees it."""

    column: int
    asked: Asked
    local_preference: int | None = None
    weight: int | None = None
    origin: str | None = None
    without: frozenset[str] = frozenset()
    """What a policy may set here to no effect: it does not go out."""


@dataclass(frozen=True, slots=True)
class PolicyUse:
    """One place where a policy is asked: of routes of the protocol ``source``, on their way into the protocol
    ``into``, or into the table where that is empty."""

    what: str
    place: Place
    source: str
    into: str
    routes: list[RouteMet] = field(default_factory=list)


def routes_met(
    protocol: str,
    rows: ProtocolRoutes,
    columns: Iterable[int],
    prefixes: PrefixClasses,
    path_of: Callable[[int], PathSeen | None] = lambda column: None,
) -> Iterator[RouteMet]:
    """Some of a process's routes as a policy sees them; ``path_of`` gives a column's BGP path."""
    for column in columns:
        prefix = prefixes.prefixes[column]
        hops = tuple(hop.address for hop in rows.next_hops(column, prefix.family) if hop.address is not None)
        tag = None if rows.tag is None or rows.tag[column] == UNSET else int(rows.tag[column])
        yield RouteMet(column, Asked(prefix, protocol, int(rows.metric[column]), tag, hops, path_of(column)))
