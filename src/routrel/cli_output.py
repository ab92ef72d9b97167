"""What commands share: exit statuses, a call that cannot be carried out, texts that are read, and output."""

import argparse
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import msgspec

DONE, NO, WRONG = 0, 1, 2
"""Exit statuses: as asked; the answer is no; the input or the call is wrong."""


class CallError(Exception):
    """A call that cannot be carried out, with its message."""


def bytes_of(name: str) -> bytes:
    """What a file that a call names holds; raises ``CallError``."""
    file = Path(name)
    if not file.is_file():
        raise CallError(f"there is no file {name!r}")
    return file.read_bytes()


def print_json(document: Any) -> None:
    """Print one JSON document on a line."""
    print(msgspec.json.encode(document).decode())


def print_lines(lines: Iterable[str]) -> None:
    """Print lines as they come."""
    for line in lines:
        print(line)


def print_answer(options: argparse.Namespace, document: Any, lines: Iterable[str], is_yes: bool = True) -> int:
    """Print an answer in the form that is asked for; the exit status."""
    if options.json:
        print_json(document)
    else:
        print_lines(lines)
    return DONE if is_yes else NO
