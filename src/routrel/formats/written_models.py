"""A network written in open models: a document per device, and beside them what is of the network as a whole.

Reading the folder back gives the same network, but for places, the names of what had none, and lists that share a name.
"""

import json
from collections.abc import Mapping

from routrel.formats.changes.sections import Sources
from routrel.formats.changes.text_edits import EditableText, TextEditError
from routrel.formats.errors import InputError, LoadError
from routrel.formats.expectations_file import split_expectations
from routrel.formats.models.writing import document_of
from routrel.formats.network_file import FOLDER_FILE
from routrel.formats.yaml_nodes import decode
from routrel.model.network import Network


def written_in_models(files: Mapping[str, bytes], network: Network) -> dict[str, str]:
    """The files of a folder that says the same as a network's; raises ``LoadError`` for one known by captures."""
    sources = Sources(files, network)
    written: dict[str, str] = {}
    errors = []
    for name, device in network.devices.items():
        try:
            data = EditableText.of(sources.device(name).text).data or {}
        except TextEditError as error:
            errors.append(InputError(device.place, str(error)))
            continue
        written[f"{name}.json"] = json.dumps(document_of(name, data), indent=1, ensure_ascii=False) + "\n"
    if errors:
        raise LoadError(errors)
    return written | {FOLDER_FILE: _whole(files)}


def _whole(files: Mapping[str, bytes]) -> str:
    """What a network file says beside its devices, as it says it."""
    texts, _ = split_expectations(files)
    file = FOLDER_FILE if FOLDER_FILE in texts else next(iter(texts))
    text = EditableText.of(decode(texts[file], file))
    return text.remove(("devices",)).text if "devices" in text.data else text.text
