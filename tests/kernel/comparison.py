"""One ruleset, asked of the kernel and of the program."""

from typing import Any

from routrel.formats.captures import read_capture
from routrel.forwarding.flow import Asker, Flow
from routrel.routing.solve import solve
from tests.kernel.namespaces import Lab
from tests.kernel.rulesets import routing, ruleset, without_refused

HOSTS = {"a": 1, "b": 2, "c": 3}
SERVICES = ("icmp", "tcp/22", "tcp/80", "tcp/443", "udp/53")


def all_flows() -> list[dict[str, Any]]:
    """Between all hosts, to the router and from it, by IPv4 and IPv6."""
    found: list[dict[str, Any]] = []
    for source in "abcr":
        for target, number in HOSTS.items():
            if source == target:
                continue
            for address in (f"10.0.{number}.2", f"fd0{number}::2"):
                found += [{"from": source, "to": address, "service": one} for one in SERVICES]
        if source != "r":
            found += [{"from": source, "to": f"10.0.{HOSTS[source]}.1", "service": one} for one in SERVICES[:2]]
            found.append({"from": source, "to": "10.0.3.1", "service": "tcp/80"})
    return found


def compare(lab: Lab, seed: int, lines: list[str] | None = None) -> tuple[list[str], list[str], int, int]:
    """(differences, the ruleset, flows asked, answers that were not sure)."""
    commands = routing(seed)
    lab.route(commands)
    lines = without_refused(ruleset(seed) if lines is None else lines, lab.load)
    error = lab.load("\n".join(lines))
    assert not error, error
    flows = all_flows()
    seen = lab.send(flows)
    asker = Asker(solve(read_capture(lab.captures())))
    differences, unsure = [], 0
    for flow, answered in zip(flows, seen, strict=True):
        walk = asker.ask(Flow(flow["from"], flow["to"], flow["service"], flow["source_port"]))
        verdicts = (walk.forward.verdict, None if walk.reply is None else walk.reply.verdict)
        if "mixed" in verdicts:
            unsure += 1
        elif (verdicts == ("arrives", "arrives")) != answered:
            words = f"{flow['from']} > {flow['to']} {flow['service']} from {flow['source_port']}"
            differences.append(f"{words}: packets {'answered' if answered else 'not answered'}, program {verdicts}")
    return differences, [*lines, *commands], len(flows), unsure
