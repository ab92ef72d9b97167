"""A folder of devices known in different ways: captures of Linux routers, open models, and the network file's own.

NAME/addresses.json, routes.json, ...   a capture (docs/captures.md)
NAME.json, NAME.xml, NAME/*.json, *.xml documents in open models (docs/models.md)
network.yaml, devices/NAME.yaml         the network file's own (docs/network-file.md)
collected.json                          how each device was had, and since when it was not (docs/collecting.md)
capture.json, names.yaml                the folder's name and time, names people use
"""

import json
import re
from collections import defaultdict
from collections.abc import Mapping

import yaml

from routrel.formats.archives import FIRST_OF_CAPTURE
from routrel.formats.cabling import Cabling, Heard
from routrel.formats.captures import CAPTURE_FILE, read_about, read_captured_device
from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.grammar import NAME, data_of
from routrel.formats.models.device import is_document, read_document, read_documents, topologies_of
from routrel.formats.models.draft import StatementReading, node_of
from routrel.formats.models.plain_tables import PLAIN_SUFFIX, is_plain_table
from routrel.formats.models.route_tables import CSV_SUFFIX, TABLE_SUFFIXES
from routrel.formats.models.topology import heard_in
from routrel.formats.network_file import DEVICE_FOLDER, FOLDER_FILE, build_device, read_names, read_network
from routrel.formats.scalars import printable
from routrel.formats.yaml_nodes import checked_json, decode
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import Address
from routrel.model.devices import Device, Gap
from routrel.model.fields import replace
from routrel.model.network import InterfaceName, Network, Site
from routrel.model.places import Place

NAMES_FILE = "names.yaml"
COLLECTED_FILE = "collected.json"
DOCUMENTS = (".json", ".xml", *TABLE_SUFFIXES)


def is_device_folder(files: Mapping[str, bytes]) -> bool:
    """Whether named texts hold a device by captures or by models."""
    return COLLECTED_FILE in files or any(
        _is_first_of_capture(name) or _is_document_file(name, data) for name, data in files.items()
    )


def _is_first_of_capture(name: str) -> bool:
    return re.fullmatch(rf"[^/]+/({'|'.join(map(re.escape, FIRST_OF_CAPTURE))})", name) is not None


def _is_document_file(name: str, data: bytes) -> bool:
    if name.startswith(DEVICE_FOLDER) or not name.endswith(DOCUMENTS) or name.count("/") > 1:
        return False
    return not name.endswith(".json") or is_document(data)


def is_wanted(name: str, data: bytes) -> bool:
    """Whether a file beside others can be one of a network: XML, CSV and texts of other kinds are passed over."""
    if name.endswith(".xml"):
        return b"xmlns" in data[:4096]
    if name.endswith(PLAIN_SUFFIX):
        return is_plain_table(data)
    return not name.endswith(CSV_SUFFIX) or b"prefix" in data.partition(b"\n")[0].lower()


def own_files(files: Mapping[str, bytes]) -> dict[str, bytes]:
    """The files of a folder that are the network file's own."""
    return {name: data for name, data in files.items() if name == FOLDER_FILE or name.startswith(DEVICE_FOLDER)}


@collection_paused()
def read_device_folder(files: Mapping[str, bytes]) -> Network:
    """The network of such a folder; raises ``LoadError`` with every error found."""
    errors = ErrorList()
    ours = own_files(files)
    name, taken_at = read_about(files, errors)
    cabling = Cabling()
    devices: dict[str, Device] = {}
    by_device = _by_device({file: data for file, data in files.items() if file not in ours}, errors)
    for device, own in by_device.items():
        if _is_topology(own, cabling):
            continue
        if not re.fullmatch(NAME, device):
            errors.add(Place(device, 1, 1), "the folder's name is no device name", found=quoted(device), allowed=NAME)
            continue
        try:
            if any(_is_first_of_capture(file) for file in own):
                _refuse_documents(own, errors)
                devices[device] = read_captured_device(device, own, cabling, errors)
            else:
                found = _read_models(device, own, cabling, errors)
                if found is not None:
                    devices[device] = found
        except LoadError as error:
            errors.errors.extend(one for one in error.errors if one not in errors.errors)
    if not name and any(map(_is_first_of_capture, files)):
        name = "capture"
    for device, gaps in _read_collected(files, errors).items():
        if device in devices:
            devices[device] = replace(devices[device], gaps=(*devices[device].gaps, *gaps))
    network = Network(name=name, taken_at=taken_at, devices=devices)
    sites = {device.site: Site(device.site, device.site) for device in devices.values() if device.site is not None}
    network = replace(network, sites=sites)
    if ours:
        try:
            network = read_network(ours, devices)
            network = replace(network, taken_at=network.taken_at or taken_at)
            if FOLDER_FILE not in ours:
                network = replace(network, name=name)
        except LoadError as error:
            errors.errors.extend(error.errors)
    names = read_names(files[NAMES_FILE], NAMES_FILE, errors) if NAMES_FILE in files else None
    joined = dict(network.devices)
    links = cabling.join(joined, network.links, errors)
    if not joined and not errors.errors:
        errors.add(Place(".", 1, 1), "the folder holds no device", allowed="a document, a table or a capture for each")
    errors.raise_if_any()
    if names is not None:
        endpoints = {one: endpoint for one, endpoint in names.endpoints.items() if one not in joined}
        network = replace(network, endpoints=endpoints | network.endpoints, services=names.services | network.services)
    return replace(network, devices=joined, links=(*network.links, *links))


def _broken_json(file: str, data: bytes) -> LoadError | None:
    """What is wrong with a text that should be JSON."""
    try:
        checked_json(decode(data, file), file)
    except LoadError as error:
        return error
    return None


def _is_topology(own: Mapping[str, bytes], cabling: Cabling) -> bool:
    """Whether a file is a topology (RFC 8345) and no device; its links are noted."""
    if len(own) != 1 or not any(b"ietf-network" in data[:4096] for data in own.values()):
        return False
    ((file, data),) = own.items()
    try:
        tops = topologies_of(read_document(data, file))
    except LoadError:
        return False  # said when it is read as a device
    cabling.heard += [heard for top in tops for heard in heard_in(top)]
    return bool(tops)


def _refuse_documents(own: Mapping[str, bytes], errors: ErrorList) -> None:
    """A device is known by a capture or by documents: which of both is believed must not be for us to say."""
    for file, data in own.items():
        if _is_document_file(file, data):
            place = Place(file, 1, 1)
            errors.add(place, "the device is known by a capture, too", allowed="a capture, or documents and tables")


def _by_device(files: Mapping[str, bytes], errors: ErrorList) -> dict[str, dict[str, bytes]]:
    """The files of each device, by its name; a file that has no place in the folder is an error."""
    found: dict[str, dict[str, bytes]] = defaultdict(dict)
    for file in sorted(files):
        folder, slash, _ = file.partition("/")
        if file in (CAPTURE_FILE, NAMES_FILE, COLLECTED_FILE):
            continue
        if slash:
            found[folder][file] = files[file]
        elif _is_document_file(file, files[file]):
            found[file.rpartition(".")[0]][file] = files[file]
        elif (broken := _broken_json(file, files[file])) is not None:
            errors.errors.extend(broken.errors)
        else:
            allowed = f"NAME.json, NAME.xml, NAME.csv or NAME.txt, a sub-folder per device, {FOLDER_FILE}"
            errors.add(Place(file, 1, 1), "this file has no place in a folder of devices", allowed=allowed)
    return found


def _read_collected(files: Mapping[str, bytes], errors: ErrorList) -> dict[str, list[Gap]]:
    """What of each device could not be had when it was asked last."""
    if COLLECTED_FILE not in files:
        return {}
    place = Place(COLLECTED_FILE, 1, 1)
    found: dict[str, list[Gap]] = defaultdict(list)
    try:
        kept = json.loads(files[COLLECTED_FILE])
        for device, one in kept.items():
            if "failed_at" in one:
                since = f"what is known is of {one['taken_at']}: since {one['failed_at']} it could not be had"
                found[device].append(Gap(f"{device}: {since} ({printable(str(one['reason']))})", place))
            for file, reason in one.get("missing", {}).items():
                found[device].append(Gap(f"{device}: {file} could not be taken: {printable(str(reason))}", place))
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        errors.add(place, "this is not what a round of collecting writes", allowed="leave the file as it was written")
    return found


def device_text(name: str, files: Mapping[str, bytes]) -> str | None:
    """A device known by documents as the network file would write it; None where it is not known so."""
    errors = ErrorList()
    own = _by_device({file: data for file, data in files.items() if file not in own_files(files)}, errors).get(name, {})
    if not own or any(_is_first_of_capture(file) for file in own):
        return None
    draft, _ = read_documents(name, own, errors)
    if draft.root is None or errors.errors:
        return None
    return yaml.safe_dump(data_of(node_of(draft.root, draft.root.by)), sort_keys=False, allow_unicode=True, width=120)


def _read_models(name: str, files: Mapping[str, bytes], cabling: Cabling, errors: ErrorList) -> Device | None:
    """A device by its documents; None where what they say cannot be."""
    for file, data in files.items():
        if not _is_document_file(file, data):
            allowed = "addresses.json and routes.json of a capture, or JSON that names its modules"
            errors.add(Place(file, 1, 1), "this is no document in an open model", allowed=allowed)
            return None
    before = len(errors.errors)
    try:
        draft, count = read_documents(name, files, errors)
    except (TypeError, ValueError, AttributeError, KeyError, IndexError, AssertionError) as error:
        place = Place(next(iter(files)), 1, 1)
        errors.add(place, f"what stands here cannot be read as a device: {quoted(error)}")
        return None
    if draft.root is None or len(errors.errors) > before:
        return None
    device = build_device(name, node_of(draft.root, draft.root.by), StatementReading(next(iter(files)), errors))
    if device is None:
        return None
    for heard in draft.lldp:
        if heard.interface in device.interfaces:
            place = Place(heard.by.file, heard.by.line + 1, heard.by.column + 1)
            far = InterfaceName(heard.system, heard.port)
            cabling.heard.append(Heard(InterfaceName(name, heard.interface), far, place, is_exact=False))
    if draft.hostname is not None:
        cabling.known_as.setdefault(draft.hostname.text, name)
    alive = frozenset((interface, Address.parse(said.text)) for interface, said in draft.seen_alive)
    return replace(
        device,
        gaps=tuple(draft.gaps),
        neighbors=alive,
        observed_neighbors=tuple(draft.observed_neighbors),
        statements=count,
    )
