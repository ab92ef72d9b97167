"""The ports at which a filter program may begin to decide otherwise: every range of ports is the same between two."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator

from routrel.model.filter_programs import (
    Concatenation,
    Condition,
    Expression,
    Field,
    FilterProgram,
    MapLookup,
    Operation,
    Range,
    SetField,
    SetMark,
    Statement,
    Translation,
    ValueMap,
    ValueSet,
    VerdictMap,
)

PORT_FIELDS = ("sport", "dport", "proto-src", "proto-dst")
HIGHEST = 65535


class PortEdges:
    """Where ranges of ports begin that a program tells apart, ascending."""

    def __init__(self, program: FilterProgram):
        found = {0}
        for statement in (one for chain in program.chains.values() for rule in chain.rules for one in rule.statements):
            found.update(_edges(statement))
            if len(found) > HIGHEST:
                break  # every port for itself
        self.edges = sorted(edge for edge in found if 0 <= edge <= HIGHEST)

    def same_up_to(self, port: int) -> int:
        """The highest port up to which the program does as it does at this one."""
        at = bisect_right(self.edges, port)
        return self.edges[at] - 1 if at < len(self.edges) else HIGHEST


def _edges(statement: Statement) -> Iterator[int]:
    if isinstance(statement, Condition):
        yield from _of_operands(statement.left, statement.right)
    elif isinstance(statement, VerdictMap):
        yield from _of_operands(statement.key, statement.data)
    elif isinstance(statement, SetMark | SetField):
        yield from _of_expression(statement.value)
    elif isinstance(statement, Translation):
        for target in (statement.addresses, statement.ports):
            if target is not None and not isinstance(target, Range):
                yield from _of_expression(target)
            elif isinstance(target, Range) and target is statement.ports:
                yield from (target.low, target.high + 1)


def _of_expression(expression: Expression) -> Iterator[int]:
    if isinstance(expression, MapLookup):
        yield from _of_operands(expression.key, expression.data)
    elif isinstance(expression, Operation) and _asks_ports(expression):
        # Bits of a port: every port for itself.
        yield from range(HIGHEST + 1)


def _asks_ports(expression: Expression) -> bool:
    if isinstance(expression, Field):
        return expression.name in PORT_FIELDS
    if isinstance(expression, Operation):
        return _asks_ports(expression.left) or _asks_ports(expression.right)
    return isinstance(expression, Concatenation) and any(map(_asks_ports, expression.parts))


def _of_operands(left: Expression, right: object) -> Iterator[int]:
    if not _asks_ports(left):
        return
    if isinstance(left, Operation):
        yield from range(HIGHEST + 1)
        return
    parts = left.parts if isinstance(left, Concatenation) else (left,)
    for at, part in enumerate(parts):
        if _asks_ports(part):
            for value in _values(right):
                yield from _around(value[at] if isinstance(value, tuple) and not isinstance(value, Range) else value)


def _values(right: object) -> Iterable[object]:
    if isinstance(right, ValueSet):
        return (*right.single, *right.ranges, *right.boxes)
    if isinstance(right, ValueMap):
        return (*right.single, *(key for key, _ in right.ranges), *(key for key, _ in right.boxes))
    return (right,)


def _around(value: object) -> Iterator[int]:
    if isinstance(value, Range):
        yield from (value.low, value.high + 1)
    elif isinstance(value, int):
        yield from (value, value + 1)
