"""Neighbours that devices tell of, held against the model's: "this session should be up and is not"."""

from collections import defaultdict
from collections.abc import Iterator

from routrel.model.findings import Finding
from routrel.model.observed import ObservedNeighbor
from routrel.routing.solve import Solved

NAMES = {"bgp": "BGP session", "ospf": "OSPF neighbour", "isis": "IS-IS neighbour"}


def neighbor_drift(solved: Solved) -> Iterator[Finding]:
    """A finding for each neighbour that is up on the device and not in the model, or the other way round."""
    if not any(device.observed_neighbors for device in solved.network.devices.values()):
        return
    sessions, failures = _sessions(solved)
    heard, apart = _heard(solved)
    for device in solved.network.devices.values():
        for seen in device.observed_neighbors:
            if seen.protocol == "bgp":
                key = (device.name, seen.vrf, seen.name)
                is_up, reason = sessions.get(key, False), failures.get(key, "")
            else:
                port = (device.name, seen.interface, seen.protocol)
                is_up, reason = heard.get(port, False), apart.get(port, "")
                if port not in heard:
                    reason = f"{seen.interface} does not speak it"
            if is_up != seen.is_up:
                text = _text(device.name, seen, reason)
                yield Finding("neighbour-drift", "warning", text, device.name, seen.interface, (seen.place,))


def _text(device: str, seen: ObservedNeighbor, reason: str) -> str:
    at = f":{seen.interface}" if seen.interface else ""
    said = f"{device}{at}: {NAMES[seen.protocol]} {seen.name} is {seen.state} on the device"
    if not seen.is_up:
        return f"{said}, and should be up by what is configured"
    return f"{said}, and not up in the model{f': {reason}' if reason else ''}"


def _sessions(solved: Solved) -> tuple[dict[tuple[str, str, str], bool], dict[tuple[str, str, str], str]]:
    """BGP sessions that are up, and why others are not, by device, routing instance and the neighbour's address."""
    topology, up, failures = solved.topology, {}, {}
    for session in (one for solution in solved.solutions for one in solution.sessions()):
        instance = topology.instances[session.instance]
        key = topology.devices[instance.device].name, instance.vrf, str(session.neighbor)
        if session.is_up:
            up[key] = True
        else:
            failures[key] = session.reason
    return up, failures


def _heard(solved: Solved) -> tuple[dict[tuple[str, str, str], bool], dict[tuple[str, str, str], str]]:
    """Whether an interface has a neighbour in a link-state protocol, and what keeps it from one."""
    topology = solved.topology
    heard: dict[tuple[str, str, str], bool] = {}
    apart: dict[tuple[str, str, str], str] = {}
    for solution in solved.solutions:
        reasons: dict[tuple[int, int], str] = getattr(solution.database, "apart", {})
        on_segment: dict[int, list[int]] = defaultdict(list)
        for port, one in solution.database.ports.items():
            if not getattr(one.settings, "passive", False):
                on_segment[topology.segment_of[port]].append(port)
        for ports in on_segment.values():
            for port in ports:
                name = topology.ports[port].name
                key = (name.device, name.interface, solution.protocol)
                others = [(min(port, other), max(port, other)) for other in ports if other != port]
                heard[key] = heard.get(key, False) or any(pair not in reasons for pair in others)
                apart.setdefault(key, next((reasons[pair] for pair in others if pair in reasons), ""))
    return heard, apart
