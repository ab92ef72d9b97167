"""A state that others are held against, one after the other: what is made of it alone is kept."""

from routrel.analysis.held.entry_lists import EntryLists
from routrel.analysis.held.states import Numbering, State
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology


class FirstState:
    """A network solved, and its state in the numbering that it has beside others like it."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self._made: tuple[Numbering, EntryLists, State] | None = None

    def beside(self, after: Solved) -> tuple[Numbering, EntryLists, State]:
        """The state with the numbering and the lists of both: those kept where the other has no more than this one."""
        if self._made is not None and _has_no_more(after.topology, self.solved.topology):
            return self._made
        numbering, lists = Numbering((self.solved.topology, after.topology)), EntryLists()
        made = numbering, lists, State(self.solved, numbering, lists)
        if _has_no_more(after.topology, self.solved.topology):
            self._made = made
        return made


def _has_no_more(topology: Topology, than: Topology) -> bool:
    """Whether a network has the ports, instances, filters and programs of another, whatever is up."""
    ports = zip(topology.ports, than.ports, strict=False)
    devices = zip(topology.devices, than.devices, strict=False)
    return (
        topology.instance_index == than.instance_index
        and len(topology.ports) == len(than.ports)
        and all(one is other or (one.name, one.instance) == (other.name, other.instance) for one, other in ports)
        and all(
            one is other
            or (one.acls, one.forwarding_policies, one.program, one.kernel_routing)
            == (other.acls, other.forwarding_policies, other.program, other.kernel_routing)
            for one, other in devices
        )
    )
