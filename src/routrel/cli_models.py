"""``routrel models`` and ``routrel try --patches``: networks and changes written in open models."""

import argparse
from collections.abc import Mapping
from pathlib import Path

from routrel.analysis.trial import Trial
from routrel.cli_output import CallError, print_answer
from routrel.formats.mrt.dumped_tables import split_dumps
from routrel.formats.sources import files_of, read_files
from routrel.formats.written_models import written_in_models


def models_command(options: argparse.Namespace) -> int:
    """A document per device, in a folder that is empty or not there yet; the exit status."""
    files = files_of(Path(options.network))
    _, dumps = split_dumps(files)
    written: dict[str, str | bytes] = {**written_in_models(files, read_files(files)), **dumps}
    _write(options.folder, written)
    return print_answer(options, {"files": sorted(written)}, [f"{len(written)} files in {options.folder}"])


def write_patches(options: argparse.Namespace, trial: Trial) -> int:
    """What a trial changes on each device, as devices take it, in a folder; the exit status."""
    found = trial.patches()
    written = {}
    for one in found:
        if one.yang_patch:
            written[f"{one.device}.patch.json"] = one.yang_patch
            written[f"{one.device}.back.patch.json"] = one.yang_patch_back
            written[f"{one.device}.edit-config.xml"] = one.edit_config
            written[f"{one.device}.back.edit-config.xml"] = one.edit_config_back
    _write(options.patches, written)
    lines = [f"{one.device}: {one.note}" for one in found if one.note]
    document = {"files": sorted(written), "notes": {one.device: one.note for one in found if one.note}}
    return print_answer(options, document, [f"{len(written)} files in {options.patches}", *lines], not lines)


def _write(folder: Path, files: Mapping[str, str | bytes]) -> None:
    """Texts and dumps into a folder that is empty or not there yet."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise CallError(f"{str(folder)!r} is not empty: what is written goes to a folder of its own")
        for name, data in files.items():
            (folder / name).parent.mkdir(exist_ok=True)
            (folder / name).write_bytes(data if isinstance(data, bytes) else data.encode())
    except OSError as error:
        raise CallError(f"{str(folder)!r} cannot be written: {error.strerror}") from None
