"""``routrel models``: a network written as documents in open models."""

import argparse
from pathlib import Path

from routrel.cli_output import CallError, print_answer
from routrel.formats.sources import files_of, read_files
from routrel.formats.written_models import written_in_models


def models_command(options: argparse.Namespace) -> int:
    """A document per device, in a folder that is empty or not there yet; the exit status."""
    files = files_of(Path(options.network))
    written = written_in_models(files, read_files(files))
    folder: Path = options.folder
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise CallError(f"{str(folder)!r} is not empty: the documents go to a folder of their own")
        for name, text in written.items():
            (folder / name).write_text(text)
    except OSError as error:
        raise CallError(f"{str(folder)!r} cannot be written: {error.strerror}") from None
    return print_answer(options, {"files": sorted(written)}, [f"{len(written)} files in {folder}"])
