"""The network file and folder: source texts in, a ``Network`` out, or every error of the load.

Two passes: the grammar (network_grammar.py) gives records with places; network_builder.py makes the model of them, and
checks names against what they name.
"""

from collections.abc import Mapping
from typing import Any, cast

import yaml

from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.grammar import INVALID, Group, Items, Reading, Record
from routrel.formats.json_reading import SuspectError, json_reader
from routrel.formats.network_builder import NetworkBuilder
from routrel.formats.network_grammar import DEVICE, LINK, NETWORK, NETWORK_FIELDS
from routrel.formats.routing_grammar import NAMED
from routrel.formats.yaml_nodes import Node, decode, parse_document
from routrel.garbage_collection import collection_paused
from routrel.model.devices import Device
from routrel.model.network import Link, Network
from routrel.model.places import Place

FOLDER_FILE = "network.yaml"
DEVICE_FOLDER = "devices/"
_read_json = json_reader(NETWORK)


@collection_paused()
def read_network(files: Mapping[str, bytes], others: Mapping[str, Device] | None = None) -> Network:
    """The network of a file (one entry in ``files``) or a folder; raises ``LoadError`` with all errors.

    ``others`` are devices of a folder that are known otherwise, which links may name. One that is known by documents
    may be written anew in ``devices/``.
    """
    errors = ErrorList()
    if others is not None or (FOLDER_FILE in files and len(files) > 1):
        record = _read_folder(files, errors)
    else:
        file, data = next(iter(files.items()))
        record = _read_whole(data, file, errors)
    network = NetworkBuilder(errors).network(record, others or {}) if isinstance(record, Record) else None
    errors.raise_if_any()
    return cast(Network, network)


def build_device(name: str, root: Node, reading: Reading) -> Device | None:
    """A device of what another reader made in the network file's shape; None where it is refused.

    Its site is looked for when the device joins a network.
    """
    record = DEVICE.read(root, reading)
    if not isinstance(record, Record):
        return None
    return NetworkBuilder(reading.errors).device(name, record, record.place, None)


def read_names(data: bytes, file: str, errors: ErrorList) -> Network:
    """Only what a network file names besides its devices: endpoints and services."""
    fields = {key: NETWORK_FIELDS[key] for key in ("endpoints", "services")}
    try:
        root = parse_document(data, file)
    except LoadError as error:
        errors.errors.extend(error.errors)
        return Network(name="")
    if isinstance(root, yaml.MappingNode):
        root.value = [(k, v) for k, v in root.value if isinstance(k, yaml.ScalarNode) and k.value in fields]
    record = Group("names", fields).read(root, Reading(file, errors))
    if not isinstance(record, Record):
        return Network(name="")
    record.values["name"] = ""
    return NetworkBuilder(errors).network(record, {})


def read_device(name: str, data: bytes, file: str, network: Network) -> Device:
    """One device of a network from a text of its own; raises ``LoadError``."""
    errors = ErrorList()
    record = _read(DEVICE, data, file, errors) if data.strip() else Record(Place(file, 1, 1))
    if isinstance(record, Record):
        device = NetworkBuilder(errors).device(name, record, Place(file, 1, 1), network.sites)
    errors.raise_if_any()
    return device


def read_link(data: bytes, file: str, devices: dict[str, Device]) -> Link:
    """One link from a text of its own; raises ``LoadError``."""
    errors = ErrorList()
    value = _read(LINK, data, file, errors)
    if value is not INVALID:
        items = Items(value.place, [value], [value.place])
        (link,) = NetworkBuilder(errors).links(items, devices)
    errors.raise_if_any()
    return link


def _read_whole(data: bytes, file: str, errors: ErrorList) -> Any:
    """A network in one file; valid JSON is read the fast way."""
    if data.lstrip().startswith(b"{"):
        try:
            return _read_json(decode(data, file), file)
        except (LoadError, SuspectError):
            pass  # which the strict way says
    return _read(NETWORK, data, file, errors)


def _read(kind: Any, data: bytes, file: str, errors: ErrorList) -> Any:
    try:
        root = parse_document(data, file)
    except LoadError as error:
        errors.errors.extend(error.errors)
        return INVALID
    return kind.read(root, Reading(file, errors))


def _read_folder(files: Mapping[str, bytes], errors: ErrorList) -> Any:
    record: Any = Record(Place(FOLDER_FILE, 1, 1), {"name": "network"})
    if FOLDER_FILE in files:
        record = _read(NETWORK, files[FOLDER_FILE], FOLDER_FILE, errors)
    devices = Record(Place(FOLDER_FILE, 1, 1))
    if isinstance(record, Record):
        if "devices" in record.places:
            errors.add(
                record.place_of("devices"), "a folder's network.yaml holds no devices", allowed="devices/NAME.yaml"
            )
        record.values["devices"] = devices
    for file in sorted(files):
        if file == FOLDER_FILE:
            continue
        place = Place(file, 1, 1)
        name = file.removeprefix(DEVICE_FOLDER).removesuffix(".yaml")
        if not file.startswith(DEVICE_FOLDER) or not file.endswith(".yaml") or "/" in name:
            errors.add(
                place, "this file has no place in a network folder", allowed=f"{FOLDER_FILE} and devices/NAME.yaml"
            )
            continue
        check = ErrorList()
        if not _is_name(name, check):
            errors.add(place, "the file's name is no device name", found=quoted(name), allowed=str(NAMED.pattern))
            continue
        device = _read(DEVICE, files[file], file, errors)
        if isinstance(device, Record):
            devices.values[name] = device
            devices.places[name] = place
    return record


def _is_name(name: str, errors: ErrorList) -> bool:
    node = yaml.ScalarNode("", name, yaml.Mark("", 0, 0, 0, "", 0), None, style='"')
    return NAMED.read(node, Reading("", errors)) is not INVALID
