"""One ruleset, asked of the kernel and of the program."""

from typing import Any

from routrel.formats.sources import read_files
from routrel.forwarding.flow import Asker, Flow
from routrel.solving import solve
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
    asker = Asker(solve(read_files(lab.captures())))
    differences, unsure = _differing(lab, asker, flows)
    if differences:
        # A machine that is busy may lose time and packets: what differs is sent once more.
        differences, _ = _differing(lab, asker, [flow for flow, _ in differences])
    return [text for _, text in differences], [*lines, *commands], len(flows), unsure


def _differing(lab: Lab, asker: Asker, flows: list[dict[str, Any]]) -> tuple[list[tuple[dict[str, Any], str]], int]:
    """Flows that are answered by one and not by the other, in words; and how many are not sure."""
    found, unsure = [], 0
    for flow, answered in zip(flows, lab.send(flows), strict=True):
        walk = asker.ask(Flow(flow["from"], flow["to"], flow["service"], flow["source_port"]))
        verdicts = (walk.forward.verdict, None if walk.reply is None else walk.reply.verdict)
        if "mixed" in verdicts:
            unsure += 1
        elif (verdicts == ("arrives", "arrives")) != answered:
            words = f"{flow['from']} > {flow['to']} {flow['service']} from {flow['source_port']}"
            found.append((flow, f"{words}: packets {'' if answered else 'not '}answered, program {verdicts}"))
    return found, unsure
