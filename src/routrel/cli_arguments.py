"""What the commands that take a network have alike on the command line."""

import argparse
from typing import Any

import shtab


def add_command(commands: Any, name: str, text: str) -> argparse.ArgumentParser:
    """A command that takes a network, and says what it finds as JSON if asked to."""
    command: argparse.ArgumentParser = commands.add_parser(name, help=text, description=text.capitalize() + ".")
    network = command.add_argument("network", metavar="NETWORK", help="a network file, or a folder of devices")
    network.complete = shtab.FILE  # type: ignore[attr-defined]
    command.add_argument("--json", action="store_true", help="one JSON document on standard output")
    return command
