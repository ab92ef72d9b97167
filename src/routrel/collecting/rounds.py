"""A round: all devices of an inventory asked at once, and the folder brought up to what they said."""

import asyncio
import json
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from routrel.collecting.answers import Answer, UnreachableError
from routrel.collecting.inventory import Inventory, Target
from routrel.collecting.netconf import data
from routrel.collecting.restconf import documents
from routrel.collecting.ssh import capture
from routrel.formats.captures import CAPTURE_FILE
from routrel.formats.device_folder import COLLECTED_FILE, read_device_folder
from routrel.formats.errors import LoadError
from routrel.model.network import Network

Progress = Callable[[str, str], None]
"""Told of each device as it is done: its name, and why it could not be had, or nothing."""

OVER = {"ssh": capture, "netconf": data, "restconf": documents}


@dataclass(slots=True)
class Round:
    """What became of a round: devices that answered, and those that could not be had with the reason."""

    taken_at: datetime
    answered: list[str] = field(default_factory=list)
    failed: dict[str, str] = field(default_factory=dict)


def collect(inventory: Inventory, folder: Path, progress: Progress) -> Round:
    """Ask every device once and keep what they say in ``folder``; what was there of others stays."""
    return asyncio.run(_collect(inventory, folder, progress))


async def _collect(inventory: Inventory, folder: Path, progress: Progress) -> Round:
    made = Round(datetime.now(UTC).replace(microsecond=0))
    folder.mkdir(parents=True, exist_ok=True)
    kept = _collected(folder)
    gate = asyncio.Semaphore(inventory.at_once)

    async def ask(target: Target) -> None:
        async with gate:
            try:
                answer = await _asked(target)
            except UnreachableError as error:
                made.failed[target.name] = str(error)
                if (folder / target.name).is_dir():
                    # What it was the first time stays: a device that is away is no news in every round.
                    known = kept.setdefault(target.name, {})
                    known.setdefault("failed_at", _text(made.taken_at))
                    known.setdefault("reason", str(error))
                progress(target.name, str(error))
                return
            _replace(folder / target.name, answer.files)
            kept[target.name] = {"taken_at": _text(made.taken_at), "over": target.over}
            if answer.missing:
                kept[target.name]["missing"] = answer.missing
            made.answered.append(target.name)
            progress(target.name, "")

    await asyncio.gather(*(ask(target) for target in inventory.targets))
    if made.answered:
        about = {"name": inventory.name, "taken_at": _text(made.taken_at)}
        _write(folder / CAPTURE_FILE, json.dumps({key: value for key, value in about.items() if value}))
    _write(folder / COLLECTED_FILE, json.dumps(kept, indent=1))
    return made


async def _asked(target: Target) -> Answer:
    """A device's answer, whole and readable; raises ``UnreachableError``."""
    try:
        async with asyncio.timeout(target.seconds):
            answer = await OVER[target.over](target)
    except TimeoutError:
        raise UnreachableError(f"not done within {target.seconds} s") from None
    try:
        await asyncio.to_thread(
            read_device_folder, {f"{target.name}/{name}": text for name, text in answer.files.items()}
        )
    except LoadError as error:
        raise UnreachableError(f"what it says cannot be read: {error.errors[0]}") from None
    if target.over == "restconf":
        # On one line, as devices answer, every statement would be in line 1.
        laid_out = {name: _laid_out(text) for name, text in answer.files.items()}
        return Answer(laid_out, answer.missing)
    return answer


def _laid_out(text: bytes) -> bytes:
    return json.dumps(json.loads(text), indent=1, ensure_ascii=False).encode()


def unknown_neighbors(network: Network) -> list[tuple[str, str]]:
    """Who is heard by LLDP and is no device of the network: the interface that hears, and what it hears."""
    return [
        (f"{device.name}:{gap.affects}", gap.neighbor)
        for device in network.devices.values()
        for gap in device.gaps
        if gap.neighbor
    ]


def _collected(folder: Path) -> dict[str, dict[str, object]]:
    """What ``collected.json`` of the folder says so far."""
    try:
        found = json.loads((folder / COLLECTED_FILE).read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) and all(isinstance(one, dict) for one in found.values()) else {}


def _text(time: datetime) -> str:
    return time.isoformat().replace("+00:00", "Z")


def _replace(folder: Path, files: dict[str, bytes]) -> None:
    """A device's folder with new files in place of all that was there; half of them never stand there."""
    fresh, old = folder.with_name(f".{folder.name}.new"), folder.with_name(f".{folder.name}.old")
    for one in (fresh, old):
        shutil.rmtree(one, ignore_errors=True)
    fresh.mkdir()
    for name, text in files.items():
        (fresh / name).write_bytes(text)
    if folder.exists():
        folder.rename(old)
    fresh.rename(folder)
    shutil.rmtree(old, ignore_errors=True)


def _write(file: Path, text: str) -> None:
    fresh = file.with_name(f".{file.name}.new")
    fresh.write_text(text)
    fresh.rename(file)
