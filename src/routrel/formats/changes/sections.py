"""The parts of a network's files that can be changed and read by themselves: a device, a link, a whole file.

A device is read again from its own lines alone; what it was must come out of them, or the text is not changed by
parts. A changed device has a text of its own, ``trial/NAME.yaml``, in which the places of what changed are; all that
stayed keeps its place in the network's files.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

import yaml

from routrel.formats.changes.text_edits import EditableText, TextEditError
from routrel.formats.device_folder import device_text, is_device_folder, own_files
from routrel.formats.errors import LoadError
from routrel.formats.expectations_file import split_expectations
from routrel.formats.mrt.dumped_tables import split_dumps, with_own_dumps
from routrel.formats.network_builder import written_anew
from routrel.formats.network_file import DEVICE_FOLDER, FOLDER_FILE, read_device, read_link
from routrel.formats.yaml_nodes import decode
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.network import Link, Network
from routrel.model.places import Place
from routrel.model.unchanged import without_places

TRIAL_FOLDER = "trial/"
"""Where the texts of changed devices stand, among a trial's files."""


@dataclass(frozen=True)
class Section:
    """Characters ``start`` to ``end`` of a file, and what stands there now, behind ``indent`` spaces more."""

    file: str
    start: int
    end: int
    text: str
    indent: int = 0


class Sources:
    """The files of a network, with sections of them changed."""

    def __init__(self, files: Mapping[str, bytes], network: Network):
        self.files = files
        self.network = network
        self.is_device_folder = is_device_folder(split_dumps(files)[0])
        self.changed: dict[str, Section] = {}
        """By the name of what a section holds: a device, ``link N``, or the file itself."""

    def device(self, name: str) -> Section:
        """A device's text as it is now; raises ``TextEditError``."""
        if name in self.changed:
            return self.changed[name]
        device = self.network.devices[name]
        section = self._at(device.place) if self.is_own(device.place) else self._written(name)
        try:
            read = self.read(device, section.text, self.network)
        except LoadError:
            read = None
        if read is None or without_places(read) != without_places(device):
            raise TextEditError(f"the text of {name} cannot be told from what is around it: change the file itself")
        return section

    def read(self, known: Device, text: str, network: Network) -> Device:
        """A device as a text says it, with what stands beside the text; raises ``LoadError``."""
        device = read_device(known.name, text.encode(), self.trial_file(known.name), network)
        return with_own_dumps(written_anew(known, device), self.files)

    def link(self, index: int) -> Section:
        """A link's text as it is now; raises ``TextEditError``."""
        name = f"link {index}"
        if name in self.changed:
            return self.changed[name]
        link = self.network.links[index]
        if not self.is_own(link.place):
            raise TextEditError("no file states this link: disable an interface instead")
        section = self._value_at(link.place, self._offset(link.place))
        try:
            read: Link | None = read_link(section.text.encode(), link.place.file, self.network.devices)
        except LoadError:
            read = None
        if read is None or without_places(read) != without_places(link):
            raise TextEditError("the text of this link cannot be told from what is around it: change the file itself")
        return section

    def _written(self, name: str) -> Section:
        """A device known by documents, written in the network file's language: a file of its own once it is changed."""
        text = device_text(name, self.files)
        if text is None:
            raise TextEditError(f"{name} is known by captures: change the text of one of its files")
        return Section(f"{DEVICE_FOLDER}{name}.yaml", 0, 0, text)

    def is_own(self, place: Place) -> bool:
        """Whether a place is in a text of the network file's own."""
        return not self.is_device_folder or place.file in own_files(self.files)

    @property
    def network_file(self) -> str:
        """The file that says what is of the network as a whole; of a folder of devices it need not be there."""
        if self.is_device_folder or FOLDER_FILE in self.files:
            return FOLDER_FILE
        texts, _ = split_expectations(split_dumps(self.files)[0])
        return next(name for name in texts if not name.startswith(TRIAL_FOLDER))

    def trial_file(self, name: str) -> str:
        """The file that the places of a changed device name."""
        place = self.network.devices[name].place
        return f"{TRIAL_FOLDER}{name}.{'json' if place.file.endswith('.json') and self.is_own(place) else 'yaml'}"

    def put(self, name: str, section: Section, text: EditableText) -> None:
        """A section's text from now on."""
        self.changed[name] = replace(section, text=text.text)

    def whole_files(self) -> dict[str, str]:
        """The files that differ, whole and as they are now."""
        found: dict[str, str] = {}
        by_file: dict[str, list[Section]] = {}
        for section in self.changed.values():
            by_file.setdefault(section.file, []).append(section)
        for file, sections in by_file.items():
            text = self._texts[file] if file in self.files else ""
            for section in sorted(sections, key=lambda one: -one.start):
                text = text[: section.start] + section.text[section.indent :] + text[section.end :]
            if file not in self.files or text != self._texts[file]:
                found[file] = text
        return found

    @cached_property
    def _texts(self) -> "_Texts":
        return _Texts(self.files)

    def _offset(self, place: Place) -> int:
        line = self._texts.lines(place.file)
        if not 0 < place.line <= len(line):
            raise TextEditError("its text is not where it was read from")
        return line[place.line - 1] + place.column - 1

    def _at(self, place: Place) -> Section:
        """The value of the key at a place; the whole of a file that holds one device."""
        text = self._texts[place.file]
        if place.file.startswith(DEVICE_FOLDER) or (
            place.file != FOLDER_FILE and FOLDER_FILE in self.files and len(self.files) > 1
        ):
            return Section(place.file, 0, len(text), text)
        start = self._offset(place)
        key = re.compile(r"[\"']?[A-Za-z0-9][A-Za-z0-9._-]*[\"']?[ ]*:").match(text, start)
        if key is None:
            raise TextEditError("its text is not where it was read from")
        after = re.compile(r"\s*(#[^\n]*\n\s*)*").match(text, key.end())
        return self._value_at(place, after.end() if after else key.end())

    def _value_at(self, place: Place, start: int) -> Section:
        """The flow value that begins at ``start``, or the lines of a block that is indented deeper than ``place``."""
        text = self._texts[place.file]
        if text[start : start + 1] in ("{", "["):
            end = start + _flow_length(text[start:])
            return Section(place.file, start, end, text[start:end])
        is_item = self._offset(place) == start
        begin = text.rfind("\n", 0, start) + 1
        least = place.column + (0 if is_item else 1)
        end = begin
        for line in _lines(text, begin):
            indent = len(line) - len(line.lstrip(" "))
            content = line.strip()
            if content and not content.startswith("#") and end > begin and indent + 1 < least:
                break
            end += len(line)
        if is_item:
            # The dash is no part of the item: its lines begin where the item does, as deep as before.
            return Section(place.file, start, end, " " * (start - begin) + text[start:end], start - begin)
        return Section(place.file, begin, end, text[begin:end])


class _Texts(dict[str, str]):
    """The texts of files, decoded when asked for."""

    def __init__(self, files: Mapping[str, bytes]):
        super().__init__()
        self.files = files
        self._lines: dict[str, list[int]] = {}

    def __missing__(self, file: str) -> str:
        self[file] = decode(self.files[file], file)
        return self[file]

    def lines(self, file: str) -> list[int]:
        """Where each line of a file begins."""
        if file not in self._lines:
            self._lines[file] = [0, *(match.end() for match in re.finditer("\n", self[file]))]
        return self._lines[file]


def _lines(text: str, start: int) -> Iterator[str]:
    while start < len(text):
        end = text.find("\n", start) + 1 or len(text)
        yield text[start:end]
        start = end


def _flow_length(text: str) -> int:
    """How many characters the flow collection at the start of a text has."""
    depth = 0
    try:
        for event in yaml.parse(text, Loader=yaml.CBaseLoader):
            depth += isinstance(event, yaml.CollectionStartEvent)
            depth -= isinstance(event, yaml.CollectionEndEvent)
            if isinstance(event, yaml.CollectionEndEvent) and depth == 0 and event.end_mark is not None:
                return int(event.end_mark.index)
    except yaml.YAMLError:
        pass
    raise TextEditError("the end of its text is not found: change the text itself")
