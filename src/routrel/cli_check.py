"""``routrel check``: problems of the model itself, or what is expected of it."""

import argparse
from collections.abc import Sequence
from pathlib import Path

from routrel.analysis.check import check
from routrel.analysis.contest.why import at_text
from routrel.analysis.expectations.failures import KINDS, TooManyFailuresError
from routrel.analysis.expectations.holding import hold
from routrel.analysis.expectations.junit import junit_xml
from routrel.analysis.expectations.leaning import leaning, leaning_lines
from routrel.analysis.expectations.words import holding_lines
from routrel.analysis.held.under_failures import PlacesStressed, places_lines, places_together
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.understanding import understanding, understanding_lines
from routrel.cli_output import DONE, NO, CallError, bytes_of, print_answer, print_json
from routrel.formats.errors import nearest
from routrel.formats.expectations_file import no_expectations, read_expectations
from routrel.formats.sources import read_path
from routrel.garbage_collection import keep
from routrel.model.expectations import Expectation, FailureKind
from routrel.routing.solve import Solved
from routrel.solving import solve


def check_command(options: argparse.Namespace) -> int:
    """Problems of the model, or what is expected of it; the exit status."""
    if options.expectations is not None:
        return _expectations(options)
    if options.two_at_once or options.junit is not None or options.leans_on is not None:
        raise CallError("--two-at-once, --leans-on and --junit are for what is expected: they need --expectations")
    kinds = _stress_kinds(options.stress)
    solved = solve(read_path(Path(options.network)))
    if options.understood:
        understood = understanding(solved)
        return print_answer(options, understood, understanding_lines(understood), True)
    if kinds:
        return _all_traffic(options, solved, kinds)
    findings = check(solved)
    if options.json:
        print_json({"findings": finding_answers(solved, findings)})
    else:
        for finding in findings:
            print(f"{finding.severity}: {finding.message}{''.join(map(at_text, finding.places))}")
        if not findings:
            print("no problems found")
    return NO if any(finding.severity == "error" for finding in findings) else DONE


def _stress_kinds(named: str) -> list[FailureKind]:
    """The kinds of failures that are named with commas between."""
    names = [name for name in named.split(",") if name]
    for name in names:
        if name not in KINDS:
            raise CallError(f"{name!r} is nothing that can fail; allowed: {', '.join(KINDS)}")
    return [kind for kind in KINDS if kind in names]


def _all_traffic(options: argparse.Namespace, solved: Solved, kinds: list[FailureKind]) -> int:
    """All traffic between places under each failure of some kinds: told, not judged."""
    keep()
    stressed = PlacesStressed(solved, kinds)
    found = places_together([stressed.part(range(len(stressed.failures)))])
    return print_answer(options, found, places_lines(found), True)


def _leaning(options: argparse.Namespace, solved: Solved, expectations: Sequence[Expectation]) -> int:
    """What one expectation leans on: told, not judged."""
    name = options.leans_on
    named = [one for one in expectations if one.name == name]
    if not named:
        close = nearest(name, [one.name for one in expectations])
        raise CallError(f"there is no expectation {name!r}{f'; did you mean {close[0]!r}?' if close else ''}")
    *_, last = leaning(solved, named[0])
    assert last.held is not None
    return print_answer(options, last.held, leaning_lines(last.held), True)


def _expectations(options: argparse.Namespace) -> int:
    """What is expected of a network, held: a failure of severity ``note`` alone is none."""
    network = read_path(Path(options.network))
    file = options.expectations
    expectations = read_expectations(bytes_of(file), Path(file).name) if file else network.expectations
    if not expectations:
        raise no_expectations(file or options.network)
    kinds = _stress_kinds(options.stress)
    if options.two_at_once and not kinds:
        raise CallError("--two-at-once needs --stress: it says which kinds of things fail")
    solved = solve(network)
    keep()
    if options.leans_on is not None:
        return _leaning(options, solved, expectations)
    try:
        found = hold(solved, expectations, kinds, options.two_at_once)
    except TooManyFailuresError as error:
        raise CallError(str(error)) from None
    if options.junit is not None:
        try:
            options.junit.write_text(junit_xml(network.name, found))
        except OSError as error:
            raise CallError(f"{str(options.junit)!r} cannot be written: {error.strerror}") from None
    is_good = all(one.state == "holds" or one.severity == "note" for one in found.expectations)
    return print_answer(options, found, holding_lines(found), is_good)
