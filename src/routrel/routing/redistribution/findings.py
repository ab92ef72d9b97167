"""What redistribution has to report: that it never settles, or settles in one way or another."""

from collections.abc import Sequence

from routrel.model.findings import Finding, some_of
from routrel.routing.protocol import AnySolution
from routrel.routing.redistribution.fixed_point import FixedPoint, Unsettled
from routrel.topology.segments import Topology


def unsettled_finding(topology: Topology, solutions: Sequence[AnySolution], unsettled: Unsettled) -> Finding:
    """Mutual redistribution that never settles, as a problem with its cycle."""
    names, places = [], []
    for number, process_number in unsettled.processes:
        process = solutions[number].processes[process_number]
        names.append(f"{topology.instance_name(process.instance)} into {process.protocol}")
        places += [rule.place for rule in process.redistribute]
    prefixes = some_of(unsettled.prefixes)
    how = f"never settles for {prefixes}: it comes round every {unsettled.rounds} rounds"
    if unsettled.is_cut:
        how = f"was not followed to its end: after much work it still changes for {prefixes}"
    first = solutions[unsettled.processes[0][0]].processes[unsettled.processes[0][1]] if unsettled.processes else None
    return Finding(
        "redistribution-unsettled",
        "error",
        f"redistribution {how}, by way of {some_of(names, 6, '; ')}. The tables shown are those of one moment",
        topology.devices[topology.instances[first.instance].device].name if first else "",
        "",
        tuple(places) or (),
    )


def order_finding(fixed_point: FixedPoint) -> Finding:
    """Redistribution that settles in one way or another, by who acts first."""
    processes, numbers = fixed_point.contested
    prefixes = fixed_point.prefixes.members(numbers)
    names, places = [], []
    for number, process_number in sorted(processes):
        process = fixed_point.solutions[number].processes[process_number]
        names.append(f"{fixed_point.topology.instance_name(process.instance)} into {process.protocol}")
        places += [rule.place for rule in process.redistribute]
    return Finding(
        "redistribution-order",
        "warning",
        f"which router redistributes {some_of(prefixes)} depends on who acts first:"
        f" {some_of(names, 6, '; ')}. One stable state is shown",
        "",
        "",
        tuple(places),
    )


def redistribution_findings(fixed_point: FixedPoint) -> list[Finding]:
    """What is known once redistribution is solved."""
    if fixed_point.unsettled is not None:
        return [unsettled_finding(fixed_point.topology, fixed_point.solutions, fixed_point.unsettled)]
    return [order_finding(fixed_point)] if fixed_point.depends_on_order else []
