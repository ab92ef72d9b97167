"""A network written in open models: a document per device, and beside them what is of the network as a whole.

Reading the folder back gives the same network, but for places, the names of what had none, and lists that share a name.
"""

import json
from collections.abc import Mapping

from routrel.formats.changes.sections import TRIAL_FOLDER, Sources
from routrel.formats.changes.text_edits import EditableText, TextEditError
from routrel.formats.device_folder import is_device_folder
from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.expectations_file import EXPECTATIONS_FILE, split_expectations
from routrel.formats.models.topology import topology_document
from routrel.formats.models.writing import document_of
from routrel.formats.mrt.dumped_tables import split_dumps
from routrel.formats.network_file import FOLDER_FILE
from routrel.formats.yaml_nodes import decode
from routrel.model.network import Network

TOPOLOGY_FILE = "_topology.json"
"""A name that no device has."""


def written_in_models(files: Mapping[str, bytes], network: Network) -> dict[str, str]:
    """The files of a folder that says the same as a network's; raises ``LoadError`` for one known by captures.

    Dumps of BGP tables are not texts: they belong beside them as they are.
    """
    sources = Sources(files, network)
    files, _ = split_dumps(files)
    written: dict[str, str] = {}
    errors = []
    for name, device in network.devices.items():
        try:
            data = EditableText.of(text_in(files, name, sources)).data or {}
        except TextEditError:
            what = "a device known by a capture is not written in models"
            errors.append(InputError(device.place, what, found=quoted(name)))
            continue
        written[f"{name}.json"] = json.dumps(document_of(name, data), indent=1, ensure_ascii=False) + "\n"
    if errors:
        raise LoadError(errors)
    topology = json.dumps(topology_document(network), indent=1, ensure_ascii=False) + "\n"
    written = written | {FOLDER_FILE: _whole(files, network), TOPOLOGY_FILE: topology}
    _, expectations = split_expectations(files)
    return written if expectations is None else written | {EXPECTATIONS_FILE: expectations.decode()}


def text_in(files: Mapping[str, bytes], name: str, sources: Sources) -> str:
    """A device's text: its own of a trial where it was changed by itself, else of the network's files."""
    for suffix in ("yaml", "json"):
        own = files.get(f"{TRIAL_FOLDER}{name}.{suffix}")
        if own is not None:
            return own.decode()
    return sources.device(name).text


def _whole(files: Mapping[str, bytes], network: Network) -> str:
    """What a network file says beside its devices, as it says it."""
    texts, _ = split_expectations(files)
    if FOLDER_FILE not in texts and is_device_folder(texts):
        return f"routrel: 1\nname: {json.dumps(network.name or 'network')}\n"
    own = [name for name in texts if not name.startswith(TRIAL_FOLDER)]
    file = FOLDER_FILE if FOLDER_FILE in texts else own[0]
    text = EditableText.of(decode(texts[file], file))
    return text.remove(("devices",)).text if "devices" in text.data else text.text
