"""``routrel maintain``: in which order to drain and shut things, and what of what is expected that breaks."""

import argparse
from pathlib import Path

from routrel.analysis.expectations.failures import NothingToFailError
from routrel.analysis.maintenance.plan import MaintenanceError, maintenance_lines, plan, things_to_shut
from routrel.cli_output import CallError, print_answer
from routrel.formats.expectations_file import no_expectations
from routrel.formats.sources import files_of, read_files
from routrel.garbage_collection import keep
from routrel.solving import solve


def maintain_command(options: argparse.Namespace) -> int:
    """A plan to shut things; the exit status says whether it breaks nothing."""
    try:
        shut = things_to_shut(options.shut)
        files = files_of(Path(options.network))
        network = read_files(files)
        if not network.expectations:
            raise no_expectations(options.network)
        solved = solve(network)
        keep()
        found = plan(files, solved, shut)
    except (MaintenanceError, NothingToFailError) as error:
        raise CallError(str(error)) from None
    return print_answer(options, found, maintenance_lines(found), found.is_sound)
