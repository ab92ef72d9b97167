"""What is said of an identifier that several routing instances have where the standard wants it unique."""

from collections.abc import Sequence

from routrel.model.findings import Doubt, Finding, some_of
from routrel.model.places import Place
from routrel.topology.segments import Topology


def identifier_twice(
    topology: Topology,
    protocol: str,
    holders: Sequence[tuple[int, Place]],
    reach: frozenset[int],
    identifier: str,
    consequence: str,
) -> tuple[Finding, Doubt]:
    """The finding, and the doubt on every answer that rests on the protocol there.

    ``holders`` are the instances that have it and where each is configured, ``reach`` the instances that hear
    of it; ``identifier`` names it ("OSPF router id 10.0.0.1"), ``consequence`` what follows and by which section.
    """
    names = [topology.instance_name(instance) for instance, _ in holders]
    text = f"{some_of(names)} have the same {identifier}: {consequence}"
    finding = Finding(
        "duplicate-identifier",
        "error",
        f"{text}. The tables shown are those with ids that differ",
        topology.devices[topology.instances[holders[0][0]].device].name,
        "",
        tuple(place for _, place in holders),
    )
    return finding, Doubt(protocol, reach, text)
