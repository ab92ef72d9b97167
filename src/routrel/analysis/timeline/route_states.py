"""The route of one table for a prefix in one state of a network: names, no numbers, to be held against other states."""

from typing import NamedTuple

from routrel.analysis.answers.routes import TableRow
from routrel.analysis.table_rows import table_row
from routrel.model.addresses import Address, Prefix
from routrel.routing.solve import Solved


class RouteAsked(NamedTuple):
    """A prefix at a routing instance of a device."""

    device: str
    vrf: str
    prefix: Prefix

    def instance_in(self, solved: Solved) -> int | None:
        """The number of the instance; None where a change took it out."""
        return solved.topology.instance_index.get((self.device, self.vrf))


def route_in(solved: Solved, asked: RouteAsked) -> TableRow | None:
    """The route for a prefix, or the longest that covers it."""
    instance = asked.instance_in(solved)
    if instance is None:
        return None
    table = solved.table(instance)
    for number in solved.prefixes.chain(Address(asked.prefix.family, asked.prefix.network)):
        if solved.prefixes.lengths[number] <= asked.prefix.length and (route := table.get(number)) is not None:
            return table_row(solved, instance, route)
    return None
