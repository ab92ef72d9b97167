"""``routrel collect`` and ``routrel stand-ins``: devices asked for what they know, and devices that are none."""

import argparse
import contextlib
import io
import json
import os
import sys
import threading
import time
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx

from routrel.analysis.answers.comparisons import Comparison
from routrel.analysis.comparison import compare, comparison_lines
from routrel.analysis.timeline.seen import seen_events
from routrel.cli_output import DONE, NO, CallError, bytes_of, print_json
from routrel.collecting.inventory import Inventory, read_inventory
from routrel.collecting.rounds import Round, collect, unknown_neighbors
from routrel.collecting.stand_ins import Played, RestconfStandIns, SshStandIns, lldp_document, write_inventory
from routrel.formats.errors import LoadError
from routrel.formats.events_file import events_text
from routrel.formats.sources import files_of, read_files
from routrel.formats.written_models import written_in_models
from routrel.model.events import Event
from routrel.model.network import Network
from routrel.model.times import rfc3339
from routrel.solving import solve

NOT_STORED = ".not-stored"
"""Stands in a folder whose last change has not become a revision yet, as when the server was away."""

NOT_SENT = ".events-not-sent"
"""Holds the events that were seen and that the server has not yet."""

TOKEN = "ROUTREL_TOKEN"
"""The environment variable with the token by which revisions are stored."""


def collect_command(options: argparse.Namespace) -> int:
    """Rounds over an inventory; the exit status of the last: whether every device answered."""
    file = Path(options.inventory)
    inventory = read_inventory(bytes_of(options.inventory), file.name, file.parent)
    if options.to is not None and not os.environ.get(TOKEN):
        raise CallError(f"--to stores revisions by a token in the environment variable {TOKEN}: see routrel token")
    while True:
        try:
            status = _round(options, inventory)
        except CallError as error:
            if options.every is None:
                raise
            print(f"routrel: {error}", file=sys.stderr)  # a server that is away: the next round tries again
        if options.every is None:
            return status
        time.sleep(options.every * 60)


def _round(options: argparse.Namespace, inventory: Inventory) -> int:
    folder: Path = options.folder
    before = _network(folder)
    shown = _Progress(len(inventory.targets))
    made = collect(inventory, folder, shown)
    shown.close()
    after = _network(folder)
    changes = None if before is None or after is None else compare(solve(before), solve(after), [])
    is_new = after is not None and (changes is None or not changes.is_same)
    events = list[Event]()
    if before is not None and after is not None and not (changes is None or changes.is_same):
        since = "" if before.taken_at is None else f", since {rfc3339(before.taken_at)}"
        events = seen_events(before, after, after.taken_at or datetime.now(UTC), f"seen by collecting{since}")
    _report(options, made, after, changes, before is None, events)
    if options.events is not None and events:
        _add(options.events, events)
    if options.to is not None and (is_new or (folder / NOT_STORED).exists()):
        (folder / NOT_STORED).touch()
        if events:
            _add(folder / NOT_SENT, events)
        _store(options.to, folder, made)
        (folder / NOT_STORED).unlink()
    if options.to is not None and (folder / NOT_SENT).exists():
        text = (folder / NOT_SENT).read_text(encoding="utf-8")
        _post(options.to.removesuffix("revisions") + "events", {"text": (None, text)}, {})
        (folder / NOT_SENT).unlink()
    return NO if made.failed else DONE


def _network(folder: Path) -> Network | None:
    """What the folder says; None where it says nothing yet, or where that cannot be read, which is said."""
    try:
        return read_files(files_of(folder)) if folder.is_dir() and any(folder.glob("[!.]*/")) else None
    except LoadError as error:
        print(f"the folder cannot be read: {error.errors[0]}", file=sys.stderr)
        return None


def _add(file: Path, events: list[Event]) -> None:
    with file.open("a", encoding="utf-8") as into:
        into.write(events_text(events))


class _Progress:
    """How far a round is, where somebody looks on."""

    def __init__(self, count: int):
        self.count = count
        self.done = 0
        self.is_watched = sys.stderr.isatty()

    def __call__(self, device: str, reason: str) -> None:
        self.done += 1
        if self.is_watched:
            print(f"\r\033[K{self.done:,} of {self.count:,} devices", end="", file=sys.stderr, flush=True)

    def close(self) -> None:
        if self.is_watched:
            print("\r\033[K", end="", file=sys.stderr)


def _report(
    options: argparse.Namespace,
    made: Round,
    after: Network | None,
    changes: Comparison | None,
    is_first: bool,
    events: list[Event],
) -> None:
    unknown = unknown_neighbors(after) if after is not None else []
    if options.json:
        neighbors = [{"at": at, "hears": hears} for at, hears in unknown]
        document = {"taken_at": made.taken_at, "answered": made.answered, "failed": made.failed, "unknown": neighbors}
        document |= {"changes": changes, "is_same": changes is not None and changes.is_same}
        print_json(document | {"events": [one.data() for one in events]})
        return
    print(f"{len(made.answered):,} of {len(made.answered) + len(made.failed):,} devices answered")
    for device, reason in sorted(made.failed.items()):
        print(f"{device}: {reason}")
    for at, hears in unknown:
        print(f"{at} hears {hears}, which the inventory lacks")
    if changes is not None and not changes.is_same:
        for line in comparison_lines(changes):
            print(line)
    elif not is_first and made.answered:
        print("nothing changed since the round before")


def _store(url: str, folder: Path, made: Round) -> None:
    """The folder as a new revision of a network on a server."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files_of(folder).items():
            archive.writestr(name, data)
    count = len(made.answered)
    note = f"collected from {count} device{'' if count == 1 else 's'}"
    if made.failed:
        note += f"; {len(made.failed)} could not be had"
    _post(url, {"file": (f"{folder.name or 'collected'}.zip", packed.getvalue())}, {"note": note})


def _post(url: str, files: dict[str, Any], data: dict[str, str]) -> None:
    """Send to a server what it is to keep."""
    what = "the revision" if url.endswith("revisions") else "what happened"
    try:
        answer = httpx.post(
            url, files=files, data=data, headers={"Authorization": f"Token {os.environ[TOKEN]}"}, timeout=180
        )
    except httpx.HTTPError as error:
        raise CallError(f"{what} could not be stored: {error}") from None
    if answer.status_code != 201:
        raise CallError(f"{what} was not stored: status {answer.status_code}, {answer.text[:300]}")


def stand_ins_command(options: argparse.Namespace) -> int:
    """Play a network's devices until told to stop."""
    files = files_of(Path(options.network))
    network = read_files(files)
    captured = [name for name, device in network.devices.items() if device.known_by == "capture"]
    captures = {
        name: {file.partition("/")[2]: data for file, data in files.items() if file.startswith(f"{name}/")}
        for name in captured
    }
    documents: dict[str, dict[str, object]] = {}
    if len(captured) < len(network.devices):
        written = written_in_models(files, network)
        for name in network.devices.keys() - captures.keys():
            document = json.loads(written[f"{name}.json"])
            documents[name] = document | {"openconfig-lldp:lldp": lldp_document(network, name)}
    played = Played(captures, documents)
    with SshStandIns(captures, documents) as ssh, RestconfStandIns(documents) as restconf:
        inventory = write_inventory(options.folder, network.name, ssh, restconf, played)
        print(
            f"{len(network.devices):,} devices are played; ask them by: routrel collect {inventory} FOLDER", flush=True
        )
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait(options.seconds)
    return DONE
