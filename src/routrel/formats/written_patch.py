"""What a trial changes on its devices, as they take it: a YANG patch and an ``edit-config``, and their reverses."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from routrel.formats.changes.sections import Sources
from routrel.formats.changes.text_edits import EditableText, TextEditError
from routrel.formats.models.patching import Edit, edit_config, edits_between, yang_patch
from routrel.formats.models.rest import LEAF, REST, REST_MODULE
from routrel.formats.models.writing import STATE, Data, document_of
from routrel.formats.written_models import text_in
from routrel.model.network import Network
from routrel.model.unchanged import without_places


@dataclass(frozen=True, slots=True)
class DevicePatch:
    """``is_whole`` tells that published models say all of the change; ``refusal``, why there is none."""

    device: str
    edits: tuple[Edit, ...] = ()
    reverse: tuple[Edit, ...] = ()
    is_whole: bool = True
    refusal: str = ""

    def yang_patch(self, back: bool = False) -> str:
        """As RFC 8072 has it, in JSON."""
        return json.dumps(yang_patch([*self._edits(back)], self.device), indent=1, ensure_ascii=False) + "\n"

    def edit_config(self, back: bool = False) -> str:
        """As NETCONF has it."""
        return edit_config([*self._edits(back)])

    def _edits(self, back: bool) -> tuple[Edit, ...]:
        return self.reverse if back else self.edits


def patches(
    files: Mapping[str, bytes], before: Network, changed: Mapping[str, bytes], after: Network
) -> list[DevicePatch]:
    """A patch for each device that differs; ``changed`` are the files of the trial, with the texts of its devices."""
    found = []
    old_sources, new_sources = Sources(files, before), Sources(changed, after)
    for name, device in after.devices.items():
        known = before.devices.get(name)
        if known is None or known is device or without_places(known) == without_places(device):
            continue
        try:
            texts = [old_sources.device(name).text, text_in(changed, name, new_sources)]
        except TextEditError as error:
            found.append(DevicePatch(name, refusal=str(error)))
            continue
        old, new = (document_of(name, EditableText.of(text).data or {}) for text in texts)
        rest = f"{REST_MODULE}:{REST}"
        told = _take_out_state(old), _take_out_state(new)
        is_whole = told[0] == told[1] and old.get(rest, {}).get(LEAF) == new.get(rest, {}).get(LEAF)
        found.append(DevicePatch(name, tuple(edits_between(old, new)), tuple(edits_between(new, old)), is_whole))
    return found


def _take_out_state(document: Data) -> list[tuple[str, str, Any]]:
    """What a document has that no device takes (config false: RFC 8343 section 5), out of it."""
    entries = document.get("ietf-interfaces:interfaces", {}).get("interface", [])
    return [(entry["name"], leaf, entry.pop(leaf)) for entry in entries for leaf in STATE if leaf in entry]
