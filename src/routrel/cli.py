"""The command line: routes, walks and problems of a network, without server or database.

Exit status: 0 done and as asked, 1 done and the answer is "no", 2 the input or the call is wrong.
"""

import argparse
import json
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from routrel import __version__
from routrel.analysis.answers.walks import ListedWalk, RefusedFlow, WalkVerdict
from routrel.analysis.check import check, finding_answer
from routrel.analysis.contest.why import (
    WhyAnswerer,
    WhyError,
    at_text,
    hops_text,
    parse_prefix,
    ranking_text,
    why_lines,
)
from routrel.analysis.policy_view import PolicyView, policy_lines
from routrel.analysis.table_rows import table_rows
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.errors import LoadError
from routrel.formats.json_items import json_items
from routrel.formats.json_schema import network_schema
from routrel.formats.sources import read_path
from routrel.forwarding.flow import Flow
from routrel.forwarding.flow_words import FlowError, parse_end
from routrel.model.addresses import Prefix
from routrel.routing.solve import Solved
from routrel.solving import solve

DONE, NO, WRONG = 0, 1, 2


class _CallError(Exception):
    """A call that cannot be carried out, with its message."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    options = _parser().parse_args(arguments)
    try:
        status: int = options.run(options)
        sys.stdout.flush()
        return status
    except LoadError as error:
        for line in error.errors:
            print(line, file=sys.stderr)
    except (_CallError, FlowError) as error:
        print(f"routrel: {error}", file=sys.stderr)
    except BrokenPipeError:
        sys.stderr.close()
        return DONE
    except (MemoryError, RecursionError):
        print("routrel: this takes more memory than there is", file=sys.stderr)
    except Exception as error:
        if os.environ.get("ROUTREL_TRACE"):
            raise
        what = f"{type(error).__name__}: {error}"
        print(
            f"routrel: something went wrong here, not with you: {what} (ROUTREL_TRACE=1 shows where)", file=sys.stderr
        )
    return WRONG


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="routrel", description="Model a routed network and ask it questions.")
    parser.add_argument("--version", action="version", version=f"routrel {__version__}")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    routes = _command(commands, "routes", "best routes of every device, as they would stand in its table")
    routes.add_argument("--device", metavar="NAME", help="this device only")
    routes.add_argument("--vrf", metavar="NAME", help="this routing instance only")
    routes.add_argument("--prefix", metavar="P", help="this prefix only")
    routes.set_defaults(run=_routes)

    walk = _command(commands, "walk", "whether traffic gets through, by which ways, and what stops it")
    walk.add_argument("--from", dest="source", metavar="WHERE", help="device, device:interface, address or endpoint")
    walk.add_argument("--to", dest="destination", metavar="WHERE", help="the same")
    walk.add_argument("--service", metavar="S", default="icmp", help="icmp (default), tcp/443, or a service's name")
    walk.add_argument("--source-port", type=int, metavar="N")
    walk.add_argument("--source", dest="source_address", metavar="ADDRESS", help="the address a device sends from")
    walk.add_argument("--vrf", metavar="NAME", help="the routing instance that the source is in")
    walk.add_argument("--enter", metavar="DEVICE:INTERFACE", help="where a source outside the model comes in")
    walk.add_argument("--no-return", action="store_true", help="the forward direction only")
    walk.add_argument("--flows", metavar="FILE", help="a JSON list of flows to walk in one call")
    walk.set_defaults(run=_walk)

    why = _command(commands, "why", "why a route stands in a table, or why none does")
    why.add_argument("--device", metavar="NAME", required=True)
    why.add_argument("--vrf", metavar="NAME", default="default", help="the routing instance (default: default)")
    why.add_argument("--prefix", metavar="P", required=True, help="a prefix, or an address to look up")
    why.add_argument("--no-tipping", action="store_true", help="leave out the values at which it would change")
    why.set_defaults(run=_why)

    policy = _command(commands, "policy", "what a policy does to every route that meets it")
    policy.add_argument("--device", metavar="NAME", required=True)
    policy.add_argument("--policy", metavar="NAME", required=True)
    policy.set_defaults(run=_policy)

    checked = _command(commands, "check", "problems of the model itself, no flow asked")
    checked.set_defaults(run=_check)

    schema = commands.add_parser("schema", help="the JSON Schema of the network file")
    schema.set_defaults(run=_schema)
    return parser


def _command(commands: Any, name: str, text: str) -> argparse.ArgumentParser:
    command: argparse.ArgumentParser = commands.add_parser(name, help=text, description=text.capitalize() + ".")
    command.add_argument("network", metavar="NETWORK", help="a network file or folder, or a capture folder")
    command.add_argument("--json", action="store_true", help="one JSON document on standard output")
    return command


def _load(options: argparse.Namespace) -> Solved:
    return solve(read_path(Path(options.network)))


def _instances(solved: Solved, device: str | None, vrf: str | None) -> list[int]:
    """The routing instances that a device's and a VRF's name select, None selecting all."""
    topology = solved.topology
    if device is not None and device not in topology.device_index:
        parse_end(solved, device)
        raise _CallError(f"{device!r} is no device of this network")
    found = [
        instance.index
        for instance in topology.instances
        if device in (None, topology.devices[instance.device].name) and vrf in (None, instance.vrf)
    ]
    if not found:
        names = sorted({i.vrf for i in topology.instances if device in (None, topology.devices[i.device].name)})
        where = f"on {device}" if device else "in this network"
        raise _CallError(f"{vrf!r} is no routing instance {where}; allowed: {', '.join(names)}")
    return found


def _print_json(document: Any) -> None:
    print(msgspec.json.encode(document).decode())


def _routes(options: argparse.Namespace) -> int:
    solved = _load(options)
    instances = _instances(solved, options.device, options.vrf)
    rows = table_rows(solved, instances)
    if options.prefix is not None:
        try:
            wanted = str(Prefix.parse(options.prefix))
        except ValueError as error:
            raise _CallError(f"--prefix: {error}") from None
        rows = (row for row in rows if row.prefix == wanted)
    if options.json:
        # Row by row: a large network's tables do not fit in memory at once.
        print('{"routes": [', end="")
        for index, row in enumerate(rows):
            print(",\n " if index else "\n ", msgspec.json.encode(row).decode(), sep="", end="")
        print("]}")
        return DONE
    for row in rows:
        hops = hops_text(row.next_hops)
        name = row.device if row.vrf == "default" else f"{row.device}/{row.vrf}"
        print(f"{name:<20} {row.prefix:<24} {row.protocol:<10} {ranking_text(row):<8} {hops or row.action}")
    return DONE


def _walk(options: argparse.Namespace) -> int:
    if options.flows is not None:
        return _walk_many(options)
    if options.source is None or options.destination is None:
        raise _CallError("walk needs --from and --to, or --flows")
    solved = _load(options)
    answerer = Answerer(solved)
    flow = Flow(
        options.source,
        options.destination,
        options.service,
        options.source_port,
        options.enter,
        options.source_address,
        options.vrf,
    )
    answer = answerer.verdict(answerer.asker.ask(flow, not options.no_return))
    if options.json:
        _print_json(answer)
    else:
        _print_walk(answer)
    return DONE if answer.good else NO


def _print_walk(answer: WalkVerdict) -> None:
    for part in answer.parts:
        back = f", answer {part.return_verdict}" if part.return_verdict else ""
        print(f"ports {', '.join(part.ports)}: {part.verdict}{back}")
        for one in part.decided_by:
            list_word, entry_word, last = (
                ("chain", "rule", "policy") if one.is_rule else ("ACL", "entry", "closing drop")
            )
            entry = f"the {last}" if one.entry is None else f"{entry_word} {one.entry}"
            does = "accepts" if one.accepted else "drops"
            print(f"  {one.device}, {list_word} {one.acl}: {entry} {does}{at_text(one.place)}")
    if answer.unexamined_ports:
        print(f"ports {answer.unexamined_ports}: not looked into, too many parts came before")
    strands = [(title, one) for title, one in (("forward", answer.forward), ("return", answer.reply)) if one]
    for title, strand in strands:
        count = strand.path_count
        print(f"{title}: {strand.verdict}, {count} way{'' if count == 1 else 's'}")
        for path in strand.paths:
            print("  " + " > ".join(path))
        for cause in strand.causes:
            print(f"  stopped at {cause.device}: {cause.message}{at_text(cause.place)}")
            word = "rule" if cause.chain else "entry"
            for miss in cause.near_misses:
                print(f"    {word} {miss.entry} would match but for {miss.field}: {miss.has}, not {miss.needs}")
            for step in cause.trail:
                print(f"    the route: {step.message}{at_text(step.place)}")
            if cause.remedy:
                print(f"    {cause.remedy.message}: {cause.remedy.text}")
            for note in cause.notes:
                print(f"    note: {note}")
    for title, note in (("forward", answer.forward_note), ("return", answer.return_note)):
        if note:
            print(f"{title}: {note}")
    left_out = [one for _, strand in strands for one in strand.not_represented]
    for said in dict.fromkeys(f"{one.device}: {one.message}{at_text(one.place)}" for one in left_out):
        print(f"not represented on the way: {said}")


def _walk_many(options: argparse.Namespace) -> int:
    file = Path(options.flows)
    if not file.is_file():
        raise _CallError(f"there is no file {options.flows!r}")
    flows = [
        _flow_of(item, f"{place.file}:{place.line}:{place.column}")
        for item, place in json_items(file.read_bytes(), file.name)
    ]
    answerer = Answerer(_load(options))
    walks = [answerer.listed(flow, not options.no_return) for flow in flows]
    if options.json:
        _print_json({"walks": walks})
    else:
        for walk in walks:
            print(f"{walk.flow.source} > {walk.flow.to} {walk.flow.service}")
            if isinstance(walk, RefusedFlow):
                print(f"  {walk.error}")
            else:
                _print_walk(walk)
    return DONE if all(isinstance(walk, ListedWalk) and walk.good for walk in walks) else NO


def _flow_of(item: dict[str, Any], where: str) -> Flow:
    allowed = ("from", "to", "service", "source_port", "enter", "source", "vrf")
    unknown = [key for key in item if key not in allowed]
    if unknown:
        raise _CallError(f"{where}: unknown key {unknown[0]!r} in a flow; allowed: {', '.join(allowed)}")
    for key in ("from", "to"):
        if not isinstance(item.get(key), str):
            raise _CallError(f"{where}: a flow needs {key!r} as text")
    for key in ("service", "enter", "source", "vrf"):
        if not isinstance(item.get(key), str | None):
            raise _CallError(f"{where}: {key!r} must be text")
    port = item.get("source_port")
    if port is not None and (not isinstance(port, int) or isinstance(port, bool)):
        raise _CallError(f"{where}: 'source_port' must be an integer")
    others = (item.get(key) for key in ("enter", "source", "vrf"))
    return Flow(item["from"], item["to"], item.get("service") or "icmp", port, *others)


def _why(options: argparse.Namespace) -> int:
    try:
        asked = parse_prefix(options.prefix)
    except WhyError as error:
        raise _CallError(f"--prefix: {error}") from None
    solved = _load(options)
    (instance,) = _instances(solved, options.device, options.vrf)
    answer = WhyAnswerer(solved).why(instance, asked, not options.no_tipping)
    if options.json:
        _print_json(answer)
    else:
        for line in why_lines(answer):
            print(line)
    return DONE if answer.winner is not None else NO


def _policy(options: argparse.Namespace) -> int:
    solved = _load(options)
    instance = _instances(solved, options.device, "default")[0]
    known = solved.topology.devices[solved.topology.instances[instance].device].policies
    if options.policy not in known:
        raise _CallError(f"{options.device} has no policy {options.policy!r}; it has: {', '.join(known) or 'none'}")
    report = PolicyView(solved, options.device, options.policy).report()
    if options.json:
        _print_json(report)
        return DONE
    for line in policy_lines(report):
        print(line)
    return DONE


def _check(options: argparse.Namespace) -> int:
    findings = check(_load(options))
    if options.json:
        _print_json({"findings": [finding_answer(finding) for finding in findings]})
    else:
        for finding in findings:
            print(f"{finding.severity}: {finding.message}{''.join(map(at_text, finding.places))}")
        if not findings:
            print("no problems found")
    return NO if any(finding.severity == "error" for finding in findings) else DONE


def _schema(options: argparse.Namespace) -> int:
    print(json.dumps(network_schema(), indent=1))
    return DONE
