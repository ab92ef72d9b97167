"""A routing policy asked of one route, in plain code, with the statement that decided (RFC 9067)."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from routrel.model.addresses import Address, Prefix
from routrel.model.policies import Policy, PolicySet, PolicyStatement


@dataclass(frozen=True, slots=True)
class Asked:
    """A route as a policy sees it."""

    prefix: Prefix
    protocol: str
    metric: int
    tag: int | None = None
    next_hops: tuple[Address, ...] = ()


@dataclass(frozen=True, slots=True)
class Decision:
    """``statement`` counts from 1; None is the closing reject, which no statement states."""

    accepted: bool
    statement: int | None
    by: PolicyStatement | None
    set: PolicySet
    touched: tuple[int, ...] = ()
    """Statements that applied their sets and went on."""

    def words(self, policy: Policy) -> str:
        """What decided, in words."""
        verb = "accepts" if self.accepted else "rejects"
        if self.statement is None:
            return f"policy {policy.name} {verb} it: no statement decides, and what none decides is rejected"
        name = f" ({self.by.name})" if self.by is not None and self.by.name else ""
        return f"policy {policy.name} {verb} it: statement {self.statement}{name}"


def ask(policy: Policy, route: Asked) -> Decision:
    """Statements in order; the first that matches and does not go on decides."""
    found = PolicySet()
    touched: list[int] = []
    for number, statement in enumerate(policy.statements, 1):
        if not _matches(statement, route):
            continue
        changes = {
            name: value
            for name in ("metric", "metric_type", "tag", "preference")
            if (value := getattr(statement.set, name)) is not None
        }
        found = replace(found, **changes)
        route = replace(
            route,
            metric=route.metric if found.metric is None else found.metric,
            tag=route.tag if found.tag is None else found.tag,
        )
        if statement.result != "continue":
            return Decision(statement.result == "accept", number, statement, found, tuple(touched))
        touched.append(number)
    return Decision(False, None, None, found, tuple(touched))


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
    return match.next_hops is None or _any_of(match.next_hops, route.next_hops)


def _any_of(wanted: Iterable[Address], given: tuple[Address, ...]) -> bool:
    return any(address in given for address in wanted)
