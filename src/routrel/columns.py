"""Rows in columns: ruled and cut to the window on a terminal, plain where they are piped on."""

import sys
from collections.abc import Sequence

Rows = Sequence[tuple[str, ...]]


def print_columns(titles: tuple[str, ...], rows: Rows) -> None:
    """Print rows of as many words as there are titles; the titles stand on a terminal only."""
    if sys.stdout.isatty():
        # Only here: these take longer to import than many commands to run.
        from rich.box import SIMPLE_HEAD
        from rich.console import Console
        from rich.markup import escape
        from rich.table import Table

        table = Table(*titles, box=SIMPLE_HEAD, pad_edge=False, header_style="bold")
        for row in rows:
            table.add_row(*map(escape, row))
        Console().print(table)
        return
    widths = [max((len(row[at]) for row in rows), default=0) for at in range(len(titles) - 1)]
    for row in rows:
        print("  ".join((*(word.ljust(width) for word, width in zip(row, widths, strict=False)), row[-1])))
