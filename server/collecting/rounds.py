"""Rounds: the devices of an inventory asked by ``routrel collect``, and a revision stored where something changed.

An inventory is a file of the machine that a worker runs on, put there by who runs it: it names keys and where
passwords are, which is nothing for people of the interface to say. What was known before is the network's latest
revision, so that any worker may do the next round.
"""

import hashlib
import io
import json
import logging
import os
import resource
import subprocess
import sys
import zipfile
from datetime import timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import msgspec
from django.conf import settings
from django.core.exceptions import ValidationError as InvalidValue
from django.utils import timezone
from rest_framework.exceptions import APIException

from asked.records import ask_starred, asking_of
from collecting.models import Round
from history.records import store as keep_file
from networks.models import Network, Revision
from networks.uploads import store, upload_of
from routrel.collecting.inventory import Inventory, read_inventory
from routrel.formats.device_folder import COLLECTED_FILE
from routrel.formats.errors import LoadError
from routrel.formats.events_file import read_events
from routrel.formats.sources import files_of_upload
from work.answering_past import EventsLoaded
from work.pool import Limits

log = logging.getLogger("routrel.collecting")

MOST_SECONDS = 900
"""For a round of any size."""

KEPT_ROUNDS = 200
"""Of an inventory."""


def due() -> list[str]:
    """The inventories that had no round yet, or whose last one is long enough ago."""
    found = []
    soon = timezone.now() + timedelta(seconds=20)  # this is asked every minute, and not to the second
    for name, inventory in inventories().items():
        if inventory.into is None:
            continue
        last = Round.objects.filter(inventory=name).first()
        if last is None or (inventory.every and last.began_at + timedelta(minutes=inventory.every) <= soon):
            found.append(name)
    return found


def inventories() -> dict[str, Inventory]:
    """The inventories of this machine by their files' names; one that cannot be read is logged."""
    found = {}
    for file in sorted(Path(settings.COLLECT).glob("*.yaml")) if settings.COLLECT else ():
        try:
            found[file.name] = read_inventory(file.read_bytes(), file.name, file.parent)
        except (LoadError, OSError) as error:
            log.warning("inventory %s: %s", file.name, error)
    return found


def take(name: str) -> None:
    """A round of an inventory, kept with what became of it."""
    inventory = inventories().get(name)
    network = None if inventory is None or inventory.into is None else _network(inventory.into)
    if inventory is None or network is None:
        log.warning("inventory %s: there is none of this name, or not its network", name)
        return
    made = Round.objects.create(network=network, inventory=name, every=inventory.every)
    try:
        _take(made, Path(settings.COLLECT) / name)
    except (RoundError, LoadError) as error:
        made.problem = str(error)
    except APIException as error:
        made.problem = str(error.detail)
    except Exception:
        log.exception("round %s of %s", made.pk, name)
        made.problem = f"Something went wrong here, not with you. Reference: {made.pk}"
    made.ended_at = timezone.now()
    made.save()
    old = Round.objects.filter(inventory=name).values_list("pk", flat=True)[KEPT_ROUNDS:]
    Round.objects.filter(pk__in=list(old)).delete()


class RoundError(Exception):
    """Why nothing came of a round, in words for people."""


def _network(into: str) -> Network | None:
    try:
        return Network.objects.filter(pk=into).first()
    except (InvalidValue, ValueError):
        return None


def _take(made: Round, inventory: Path) -> None:
    latest = made.network.revisions.first()
    with TemporaryDirectory(prefix="routrel-round-") as made_for:
        folder = Path(made_for) / "collected"
        folder.mkdir()
        is_first = latest is None or not _lay_out(latest, folder)
        said = _collected(inventory, folder)
        made.answered, made.failed = len(said["answered"]), said["failed"]
        made.unknown = {one["at"]: one["hears"] for one in said["unknown"]}
        if said["answered"] and (is_first or not said["is_same"]):
            note = f"collected by {inventory.name} from {made.answered} device{'' if made.answered == 1 else 's'}"
            note += f"; {len(made.failed)} could not be had" if made.failed else ""
            upload = upload_of(f"{inventory.stem}.zip", _packed(folder))
            made.revision = store(made.network, upload, None, note)
            ask_starred(made.network, made.revision, asking_of(made.revision, None))
            if said["events"]:
                _keep(made, said["events"])


def _keep(made: Round, events: list[Any]) -> None:
    """What was seen to have happened since the round before, as a file of events."""
    data = b"".join(msgspec.json.encode(one) + b"\n" for one in events)
    name = f"{made.inventory}-{made.pk}.jsonl"
    moments = [one.time for one in read_events(data, name)[0]]
    found = EventsLoaded(len(moments), 0, min(moments), max(moments), 0, [])
    keep_file(made.network, hashlib.sha256(data).hexdigest(), name, data, found, None)


def _lay_out(revision: Revision, folder: Path) -> bool:
    """What was known before, as a folder; False where that was not collected. Names were checked as they came."""
    files = files_of_upload(revision.file_name, revision.original())
    if COLLECTED_FILE not in files:
        return False
    for name, data in files.items():
        file = folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data)
    return True


def _collected(inventory: Path, folder: Path) -> Any:
    """What ``routrel collect`` says of its round, done by a process with limits of its own."""
    command = [sys.executable, "-m", "routrel", "collect", str(inventory), str(folder), "--json"]
    source = str(Path(__file__).parents[2] / "src")
    paths = os.pathsep.join(filter(None, (source, os.environ.get("PYTHONPATH", ""))))
    size = Limits.of_environment().bytes_each
    try:
        done = subprocess.run(
            command,
            capture_output=True,
            text=True,
            timeout=MOST_SECONDS,
            env={**os.environ, "PYTHONPATH": paths},
            preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (size, size)),
        )
    except subprocess.TimeoutExpired:
        raise RoundError(f"the round was not done within {MOST_SECONDS} seconds") from None
    try:
        return json.loads(done.stdout)
    except ValueError:
        last = done.stderr.strip().splitlines()[-1:] or ["it said nothing"]
        raise RoundError(f"the round could not be made: {last[0]}") from None


def _packed(folder: Path) -> bytes:
    into = io.BytesIO()
    with zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(folder.rglob("*")):
            if file.is_file() and not any(part.startswith(".") for part in file.relative_to(folder).parts):
                archive.write(file, file.relative_to(folder).as_posix())
    return into.getvalue()
