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
import shtab

from routrel import __version__
from routrel.analysis.answers.walks import ListedWalk, RefusedFlow
from routrel.analysis.comparison import compare, comparison_lines
from routrel.analysis.contest.why import (
    WhyAnswerer,
    WhyError,
    hops_text,
    parse_prefix,
    ranking_text,
    why_lines,
)
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.failures import KINDS
from routrel.analysis.policy_view import PolicyView, policy_lines
from routrel.analysis.ranked_remedies import ranked_remedies, remedy_lines
from routrel.analysis.search import find
from routrel.analysis.table_rows import table_rows
from routrel.analysis.walk_lines import evidence_lines, walk_lines
from routrel.analysis.walk_verdicts import Answerer
from routrel.analysis.wanted_ways.proposals import wanted_lines, wanted_way
from routrel.cli_arguments import add_command
from routrel.cli_check import check_command
from routrel.cli_devices import add_device_commands
from routrel.cli_flows import flows_of
from routrel.cli_history import history_command
from routrel.cli_maintain import maintain_command
from routrel.cli_models import models_command
from routrel.cli_output import DONE, NO, WRONG, CallError, print_answer, print_json, print_lines
from routrel.cli_try import try_command
from routrel.columns import print_columns
from routrel.formats.errors import LoadError
from routrel.formats.json_schema import network_schema
from routrel.formats.sources import files_of, read_files, read_path
from routrel.forwarding.flow import Flow, parse_flow
from routrel.forwarding.flow_words import FlowError, parse_end
from routrel.model.addresses import Prefix
from routrel.routing.solve import Solved
from routrel.solving import solve


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
    except (CallError, FlowError) as error:
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
    for add in (_add_questions, _add_changes, _add_checks, _add_history, add_device_commands, _add_about):
        add(commands)
    return parser


def _add_questions(commands: Any) -> None:
    """What is asked of one network."""
    routes = add_command(commands, "routes", "best routes of every device, as they would stand in its table")
    routes.add_argument("--device", metavar="NAME", help="this device only")
    routes.add_argument("--vrf", metavar="NAME", help="this routing instance only")
    routes.add_argument("--prefix", metavar="P", help="this prefix only")
    routes.set_defaults(run=_routes)

    walk = add_command(commands, "walk", "whether traffic gets through, by which ways, and what stops it")
    walk.add_argument("--from", dest="source", metavar="WHERE", help="device, device:interface, address or endpoint")
    walk.add_argument("--to", dest="destination", metavar="WHERE", help="the same")
    walk.add_argument("--service", metavar="S", default="icmp", help="icmp (default), tcp/443, or a service's name")
    walk.add_argument("--source-port", type=int, metavar="N")
    walk.add_argument("--source", dest="source_address", metavar="ADDRESS", help="the address a device sends from")
    walk.add_argument("--vrf", metavar="NAME", help="the routing instance that the source is in")
    walk.add_argument("--enter", metavar="DEVICE:INTERFACE", help="where a source outside the model comes in")
    walk.add_argument("--no-return", action="store_true", help="the forward direction only")
    walk.add_argument("--evidence", action="store_true", help="every stop with all that was looked at, and its lines")
    walk.add_argument("--remedies", action="store_true", help="what cures it, by how little else it moves")
    walk.add_argument("--flows", metavar="FILE", help="a JSON list of flows to walk in one call")
    walk.set_defaults(run=_walk)

    lead = add_command(commands, "lead", "what would lead a flow by some devices, or past them")
    lead.add_argument("flow", metavar="FLOW", help="like 'a > b tcp/443'")
    lead.add_argument("--by", action="append", default=[], metavar="DEVICE", help="a device that it is to pass")
    lead.add_argument("--past", action="append", default=[], metavar="DEVICE", help="a device that it is to avoid")
    lead.set_defaults(run=_lead)

    why = add_command(commands, "why", "why a route stands in a table, or why none does")
    why.add_argument("--device", metavar="NAME", required=True)
    why.add_argument("--vrf", metavar="NAME", default="default", help="the routing instance (default: default)")
    why.add_argument("--prefix", metavar="P", required=True, help="a prefix, or an address to look up")
    why.add_argument("--no-tipping", action="store_true", help="leave out the values at which it would change")
    why.set_defaults(run=_why)

    policy = add_command(commands, "policy", "what a policy does to every route that meets it")
    policy.add_argument("--device", metavar="NAME", required=True)
    policy.add_argument("--policy", metavar="NAME", required=True)
    policy.set_defaults(run=_policy)

    table = add_command(commands, "table", "the table of one device")
    table.add_argument("device", metavar="DEVICE")
    table.add_argument("--vrf", metavar="NAME", default="default", help="the routing instance (default: default)")
    table.set_defaults(run=_table)

    find = add_command(commands, "find", "who owns an address, and what else has this name")
    find.add_argument("word", metavar="WORD", help="a name, an address or a prefix")
    find.set_defaults(run=_find)


def _add_changes(commands: Any) -> None:
    """What differs, and what would."""
    diff = add_command(commands, "diff", "what differs between two networks: model, tables, flows")
    diff.add_argument("other", metavar="OTHER", help="the network to hold against it")
    diff.add_argument("--flows", metavar="FILE", help="a JSON list of flows to ask of both")
    diff.set_defaults(run=_diff)

    tried = add_command(commands, "try", "what changes would do: to flows, routes and everything else")
    tried.add_argument("--change", action="append", default=[], metavar="C", help="like 'set: cost, at: r1:e1, to: 40'")
    tried.add_argument("--changes", metavar="FILE", help="a YAML or JSON list of changes, made first")
    tried.add_argument("--flow", action="append", default=[], metavar="F", help="a flow, like 'a > b tcp/443'")
    tried.add_argument("--flows", metavar="FILE", help="a JSON list of flows")
    tried.add_argument("--diff", action="store_true", help="only the unified difference of the files")
    tried.add_argument("--back-out", action="store_true", help="only the difference that takes it back")
    tried.add_argument(
        "--patches",
        metavar="FOLDER",
        type=Path,
        help="what devices take: YANG patches, edit-configs, and their reverses",
    )
    tried.set_defaults(run=try_command)


def _add_checks(commands: Any) -> None:
    """What a network is held against."""
    checked = add_command(commands, "check", "problems of the model itself, no flow asked; or what is expected of it")
    checked.add_argument(
        "--expectations",
        metavar="FILE",
        nargs="?",
        const="",
        help="hold what is expected: by expectations.yaml of the network's folder, or by a file",
    ).complete = shtab.FILE  # type: ignore[attr-defined]
    checked.add_argument(
        "--stress",
        metavar="KINDS",
        default="",
        help="under each single failure too, of some of: "
        f"{','.join(KINDS)}; without --expectations: what becomes of all traffic",
    )
    checked.add_argument(
        "--two-at-once",
        action="store_true",
        help="under each two failures of --stress at once: what neither does alone",
    )
    checked.add_argument(
        "--leans-on", metavar="NAME", help="what one expectation leans on, in place of whether it holds"
    )
    checked.add_argument("--junit", metavar="FILE", type=Path, help="write what holds as JUnit's XML too")
    checked.add_argument("--understood", action="store_true", help="what of the input is in the model, and what is not")
    checked.set_defaults(run=check_command)

    maintain = add_command(commands, "maintain", "in which order to drain and shut things, and what that breaks")
    maintain.add_argument(
        "--shut",
        action="append",
        default=[],
        metavar="THING",
        help="what is to be shut, like 'device r1' or 'link a to b'; as often as needed",
    )
    maintain.set_defaults(run=maintain_command)


def _add_history(commands: Any) -> None:
    """What happened, and the network as others take it."""
    history = add_command(commands, "history", "what happened to a network over time, and what of it flows met")
    history.add_argument(
        "--events", action="append", default=[], metavar="FILE", help="what happened, one event on a line"
    ).complete = shtab.FILE  # type: ignore[attr-defined]
    history.add_argument("--flow", action="append", default=[], metavar="F", help="a flow, like 'a > b tcp/443'")
    history.add_argument("--flows", metavar="FILE", help="a JSON list of flows")
    history.add_argument("--since", metavar="TIME", help="from when on; else from the first event")
    history.add_argument("--until", metavar="TIME", help="up to when; else up to the last event")
    history.add_argument("--route", metavar="'DEVICE PREFIX'", help="a table's route for a prefix, over the time")
    history.add_argument("--state-at", metavar="TIME", help="the changes that make the network what it was then")
    history.set_defaults(run=history_command)

    models = add_command(commands, "models", "the devices as documents in the models of the IETF")
    models.add_argument("folder", metavar="FOLDER", type=Path, help="where they go: a folder that is empty or new")
    models.set_defaults(run=models_command)


def _add_about(commands: Any) -> None:
    """About the command line and the files themselves."""
    completion = commands.add_parser("completion", help="what completes this command line in a shell")
    completion.add_argument("shell", choices=("bash", "zsh"))
    completion.set_defaults(run=_completion)

    schema = commands.add_parser("schema", help="the JSON Schema of the network file")
    schema.set_defaults(run=_schema)


def _load(options: argparse.Namespace) -> Solved:
    return solve(read_path(Path(options.network)))


def _instances(solved: Solved, device: str | None, vrf: str | None) -> list[int]:
    """The routing instances that a device's and a VRF's name select, None selecting all."""
    topology = solved.topology
    if device is not None and device not in topology.device_index:
        parse_end(solved, device)
        raise CallError(f"{device!r} is no device of this network")
    found = [
        instance.index
        for instance in topology.instances
        if device in (None, topology.devices[instance.device].name) and vrf in (None, instance.vrf)
    ]
    if not found:
        names = sorted({i.vrf for i in topology.instances if device in (None, topology.devices[i.device].name)})
        where = f"on {device}" if device else "in this network"
        raise CallError(f"{vrf!r} is no routing instance {where}; allowed: {', '.join(names)}")
    return found


def _routes(options: argparse.Namespace) -> int:
    solved = _load(options)
    instances = _instances(solved, options.device, options.vrf)
    rows = table_rows(solved, instances)
    if options.prefix is not None:
        try:
            wanted = str(Prefix.parse(options.prefix))
        except ValueError as error:
            raise CallError(f"--prefix: {error}") from None
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


def _table(options: argparse.Namespace) -> int:
    solved = _load(options)
    rows = list(table_rows(solved, _instances(solved, options.device, options.vrf)))
    if options.json:
        print_json({"routes": rows})
        return DONE
    print_columns(
        ("prefix", "protocol", "rank", "next hops"),
        [
            (
                row.prefix,
                f"{row.protocol} {row.kind}".strip(),
                ranking_text(row),
                hops_text(row.next_hops) or row.action,
            )
            for row in rows
        ],
    )
    return DONE


def _find(options: argparse.Namespace) -> int:
    found = find(_load(options), options.word)
    if options.json:
        print_json({"found": found})
    elif found:
        print_columns(("word", "kind", "detail"), [(one.word, one.kind, one.detail) for one in found])
    else:
        print("nothing of this name")
    return DONE if found else NO


def _completion(options: argparse.Namespace) -> int:
    print(shtab.complete(_parser(), options.shell))
    return DONE


def _diff(options: argparse.Namespace) -> int:
    flows = flows_of(options.flows) if options.flows is not None else []
    found = compare(_load(options), solve(read_path(Path(options.other))), flows)
    return print_answer(options, found, comparison_lines(found), found.is_same)


def _lead(options: argparse.Namespace) -> int:
    files = files_of(Path(options.network))
    found = wanted_way(files, solve(read_files(files)), parse_flow(options.flow), options.by, options.past)
    return print_answer(options, found, wanted_lines(found), found.is_so_already or bool(found.proposals))


def _walk(options: argparse.Namespace) -> int:
    if options.flows is not None:
        return _walk_many(options)
    if options.source is None or options.destination is None:
        raise CallError("walk needs --from and --to, or --flows")
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
    walk = answerer.asker.ask(flow, not options.no_return)
    if options.remedies:
        ranked = ranked_remedies(files_of(Path(options.network)), answerer.solved, flow)
        lines = remedy_lines(ranked) if ranked or not walk.is_good else iter(["it works: there is nothing to cure"])
        return print_answer(options, {"remedies": ranked}, lines, walk.is_good or any(one.is_cured for one in ranked))
    if options.evidence:
        found = Evidence(answerer).walk(walk)
        return print_answer(options, found, evidence_lines(found), found.good)
    answer = answerer.verdict(walk)
    return print_answer(options, answer, walk_lines(answer), answer.good)


def _walk_many(options: argparse.Namespace) -> int:
    flows = flows_of(options.flows)
    answerer = Answerer(_load(options))
    walks = [answerer.listed(flow, not options.no_return) for flow in flows]
    if options.json:
        print_json({"walks": walks})
    else:
        for walk in walks:
            print(f"{walk.flow.source} > {walk.flow.to} {walk.flow.service}")
            if isinstance(walk, RefusedFlow):
                print(f"  {walk.error}")
            else:
                print_lines(walk_lines(walk))
    return DONE if all(isinstance(walk, ListedWalk) and walk.good for walk in walks) else NO


def _why(options: argparse.Namespace) -> int:
    try:
        asked = parse_prefix(options.prefix)
    except WhyError as error:
        raise CallError(f"--prefix: {error}") from None
    solved = _load(options)
    (instance,) = _instances(solved, options.device, options.vrf)
    answer = WhyAnswerer(solved).why(instance, asked, not options.no_tipping)
    return print_answer(options, answer, why_lines(answer), answer.winner is not None)


def _policy(options: argparse.Namespace) -> int:
    solved = _load(options)
    instance = _instances(solved, options.device, "default")[0]
    known = solved.topology.devices[solved.topology.instances[instance].device].policies
    if options.policy not in known:
        raise CallError(f"{options.device} has no policy {options.policy!r}; it has: {', '.join(known) or 'none'}")
    report = PolicyView(solved, options.device, options.policy).report()
    return print_answer(options, report, policy_lines(report))


def _schema(options: argparse.Namespace) -> int:
    print(json.dumps(network_schema(), indent=1))
    return DONE
