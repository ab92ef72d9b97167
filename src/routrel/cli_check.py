"""``routrel check``: problems of the model itself, or what is expected of it."""

import argparse
from pathlib import Path

from routrel.analysis.check import check
from routrel.analysis.contest.why import at_text
from routrel.analysis.expectations.failures import KINDS
from routrel.analysis.expectations.holding import hold
from routrel.analysis.expectations.junit import junit_xml
from routrel.analysis.expectations.words import holding_lines
from routrel.analysis.problem_offers import finding_answers
from routrel.cli_output import DONE, NO, CallError, bytes_of, print_answer, print_json
from routrel.formats.expectations_file import no_expectations, read_expectations
from routrel.formats.sources import read_path
from routrel.garbage_collection import keep
from routrel.solving import solve


def check_command(options: argparse.Namespace) -> int:
    """Problems of the model, or what is expected of it; the exit status."""
    if options.expectations is not None:
        return _expectations(options)
    if options.stress or options.junit is not None:
        raise CallError("--stress and --junit are for what is expected: they need --expectations")
    solved = solve(read_path(Path(options.network)))
    findings = check(solved)
    if options.json:
        print_json({"findings": finding_answers(solved, findings)})
    else:
        for finding in findings:
            print(f"{finding.severity}: {finding.message}{''.join(map(at_text, finding.places))}")
        if not findings:
            print("no problems found")
    return NO if any(finding.severity == "error" for finding in findings) else DONE


def _expectations(options: argparse.Namespace) -> int:
    """What is expected of a network, held: a failure of severity ``note`` alone is none."""
    network = read_path(Path(options.network))
    file = options.expectations
    expectations = read_expectations(bytes_of(file), Path(file).name) if file else network.expectations
    if not expectations:
        raise no_expectations(file or options.network)
    kinds = [kind for kind in options.stress.split(",") if kind]
    for kind in kinds:
        if kind not in KINDS:
            raise CallError(f"{kind!r} is nothing that can fail; allowed: {', '.join(KINDS)}")
    solved = solve(network)
    keep()
    found = hold(solved, expectations, [kind for kind in KINDS if kind in kinds])
    if options.junit is not None:
        try:
            options.junit.write_text(junit_xml(network.name, found))
        except OSError as error:
            raise CallError(f"{str(options.junit)!r} cannot be written: {error.strerror}") from None
    is_good = all(one.state == "holds" or one.severity == "note" for one in found.expectations)
    return print_answer(options, found, holding_lines(found), is_good)
