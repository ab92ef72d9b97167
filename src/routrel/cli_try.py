"""``routrel try``: what changes would do, to flows, routes and everything else."""

import argparse
import itertools
import sys
import time
from pathlib import Path

from routrel.analysis.answers.held import Held
from routrel.analysis.answers.walks import ListedWalk
from routrel.analysis.comparison import compare, comparison_lines
from routrel.analysis.held.groups import comparing, held_lines
from routrel.analysis.trial import Trial, tried_lines
from routrel.analysis.walk_verdicts import Answerer
from routrel.cli_flows import flows_of
from routrel.cli_models import write_patches
from routrel.cli_output import DONE, CallError, bytes_of, print_answer
from routrel.formats.changes.reading import read_change, read_changes
from routrel.formats.errors import LoadError
from routrel.formats.sources import files_of, read_files
from routrel.forwarding.flow import parse_flow
from routrel.garbage_collection import keep
from routrel.solving import solve


def try_command(options: argparse.Namespace) -> int:
    """Changes beside a network; the exit status: whether the flows get through and nothing else is worse."""
    changes = [] if options.changes is None else [*read_changes(bytes_of(options.changes), Path(options.changes).name)]
    changes += [read_change(text, f"--change {number}") for number, text in enumerate(options.change, 1)]
    if not changes:
        raise CallError("try needs --change or --changes")
    flows = [parse_flow(text) for text in options.flow]
    flows += flows_of(options.flows) if options.flows is not None else []
    files = files_of(Path(options.network))
    trial = Trial.of(files, solve(read_files(files)), changes)
    errors = [error for outcome in trial.applied.outcomes for error in outcome.errors]
    if errors:
        raise LoadError(errors)
    if options.patches is not None:
        return write_patches(options, trial)
    if options.diff or options.back_out:
        print(trial.difference(options.back_out), end="")
        return DONE
    found, held = compare(trial.before, trial.after, flows), _held(trial)
    tried = trial.tried()
    lines = itertools.chain(tried_lines(tried), comparison_lines(found), held_lines(held))
    answerer = Answerer(trial.after)
    is_good = all(isinstance(one, ListedWalk) and one.good for one in map(answerer.listed, flows))
    return print_answer(
        options, {"tried": tried, "comparison": found, "held": held}, lines, is_good and not held.is_worse
    )


def _held(trial: Trial) -> Held:
    """What of all traffic changes; how far it is, where somebody looks on."""
    shown, is_watched = time.monotonic(), sys.stderr.isatty()
    keep()
    for step in comparing(trial.before, trial.after):
        if step.held is not None:
            break
        if is_watched and time.monotonic() > shown + 1:
            shown = time.monotonic()
            print(
                f"\r{step.done:,} of {step.of:,} steps: all traffic is held against each other", end="", file=sys.stderr
            )
    if is_watched:
        print("\r\033[K", end="", file=sys.stderr)
    assert step.held is not None
    return step.held
