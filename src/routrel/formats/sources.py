"""Where a network's text comes from: a file, a network folder or a folder of devices on disk, as named texts."""

from collections.abc import Mapping
from pathlib import Path

from routrel.formats.archives import SUFFIXES, is_zip, unpack
from routrel.formats.device_folder import NAMES_FILE, is_device_folder, is_wanted, read_device_folder
from routrel.formats.errors import InputError, LoadError
from routrel.formats.expectations_file import read_expectations, split_expectations
from routrel.formats.mrt.dumped_tables import split_dumps, with_dumps
from routrel.formats.network_file import FOLDER_FILE, read_network
from routrel.formats.vlan_budget import refuse_too_many_tagged_ports
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.places import Place

MAX_FILES = 30_000
MAX_TOTAL_BYTES = 256 * 1024 * 1024


def read_path(path: Path) -> Network:
    """The network of a file or folder; raises ``LoadError``."""
    return read_files(files_of(path))


def read_files(files: Mapping[str, bytes]) -> Network:
    """The network of named texts: a folder of devices known in different ways, or a network file or folder."""
    others, dumps = split_dumps(files)
    texts, expectations = split_expectations(others)
    if expectations is None:
        network = _read(texts)
    else:
        network = _with_expectations(texts, expectations)
    if dumps:
        network = with_dumps(network, dumps)
    refuse_too_many_tagged_ports(network)
    return network


def _with_expectations(texts: Mapping[str, bytes], expectations: bytes) -> Network:
    """A network with what is expected of it; the errors of both at once."""
    errors: list[InputError] = []
    try:
        network = _read(texts)
    except LoadError as error:
        errors += error.errors
    try:
        found = read_expectations(expectations)
    except LoadError as error:
        errors += error.errors
    if errors:
        raise LoadError(errors)
    return replace(network, expectations=found)


def _read(files: Mapping[str, bytes]) -> Network:
    if is_device_folder(files):
        return read_device_folder(files)
    if not files:
        # What an archive holds may be of no kind that is read, or nothing but dumps of devices that are not there.
        allowed = f"{FOLDER_FILE} with devices/NAME.yaml, or a folder of devices"
        raise LoadError([InputError(Place(".", 1, 1), "this holds no network", allowed=allowed)])
    if len(files) > 1 and FOLDER_FILE not in files:
        raise LoadError(
            [
                InputError(
                    Place(".", 1, 1),
                    "this is neither a network folder nor a folder of devices",
                    found=", ".join(sorted(files)[:5]),
                    allowed=f"{FOLDER_FILE} with devices/NAME.yaml, a sub-folder per device with addresses.json, or"
                    " NAME.json and NAME.xml in open models",
                )
            ]
        )
    return read_network(files)


def files_of_upload(name: str, data: bytes) -> dict[str, bytes]:
    """The named texts of one file: itself, or what a zip archive holds."""
    if not is_zip(data):
        return {name: data}
    return {file: text for file, text in unpack(data, name).items() if is_wanted(file, text)}


def files_of(path: Path) -> dict[str, bytes]:
    """All files of a folder by their path in it, or the one file; within bounds."""
    if not path.exists():
        raise LoadError([InputError(Place(str(path), 1, 1), "there is no such file or folder")])
    if path.is_file():
        return files_of_upload(path.name, path.read_bytes())
    files: dict[str, bytes] = {}
    total = 0
    for file in sorted(path.rglob("*")):
        name = file.relative_to(path).as_posix()
        if not file.is_file() or any(part.startswith(".") for part in name.split("/")):
            continue
        if not name.endswith(SUFFIXES):
            continue
        size = file.stat().st_size
        if len(files) >= MAX_FILES or total + size > MAX_TOTAL_BYTES:
            raise LoadError(
                [
                    InputError(
                        Place(name, 1, 1),
                        "the folder holds too much",
                        allowed=f"{MAX_FILES:,} files and {MAX_TOTAL_BYTES:,} bytes",
                    )
                ]
            )
        data = file.read_bytes()
        if not is_wanted(name, data):
            continue
        total += size
        files[name] = data
    if not files:
        raise LoadError([InputError(Place(str(path), 1, 1), "the folder holds no network", allowed=FOLDER_FILE)])
    if is_device_folder(files) and NAMES_FILE not in files:
        # The network file that stands beside a capture lends it the names people use.
        for beside in (path.parent / f"{path.resolve().name}.network.yaml", path.resolve().parent / FOLDER_FILE):
            if beside.is_file():
                files[NAMES_FILE] = beside.read_bytes()
                break
    return files
