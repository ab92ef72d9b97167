"""Changes applied to a network and to the text it was read from.

Each change edits the text of the devices or links it names, which are read again at once: what the grammar refuses is
an error of that change, which then is left out. What comes out is exactly what the changed text means.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from routrel.formats.changes.adjacencies import with_adjacencies
from routrel.formats.changes.entries import before_number, entry_number, list_path
from routrel.formats.changes.expectation_edits import expectations_edited
from routrel.formats.changes.finding import (
    ChangeError,
    area_key,
    device_of,
    devices_at,
    interface_of,
    interface_path,
    link_of,
    links_in_group,
    neighbor_path,
    no_such,
    ospf_interface,
    routing_path,
    session_of,
)
from routrel.formats.changes.link_edits import links_edited
from routrel.formats.changes.outcomes import Applied, Outcome, errors_of, taken_over
from routrel.formats.changes.paths_said import path_said
from routrel.formats.changes.policy_statements import insert_attribute, insert_preference
from routrel.formats.changes.restarts import restarted_at, restarted_ends
from routrel.formats.changes.sections import TRIAL_FOLDER, Section, Sources
from routrel.formats.changes.text_edits import EditableText, Path, TextEditError, at_path, written
from routrel.formats.changes.virtual_routers import PrioritiesSet
from routrel.formats.changes.vocabulary import ATTRIBUTES, SWITCHES
from routrel.formats.errors import LoadError
from routrel.formats.expectations_file import EXPECTATIONS_FILE, read_expectations
from routrel.formats.mrt.dumped_tables import split_dumps
from routrel.formats.network_file import read_link
from routrel.formats.sources import read_files
from routrel.model.addresses import Address
from routrel.model.changes import Change
from routrel.model.fields import replace
from routrel.model.network import InterfaceName, Network
from routrel.model.routing import DEFAULT_INSTANCE, DEFAULT_PREFERENCES
from routrel.model.unchanged import taking_over, without_places


def apply_changes(files: Mapping[str, bytes], network: Network, changes: Sequence[Change]) -> Applied:
    """The network of ``files`` with all changes that are on and can be made, in their order."""
    applier = Applier(files, network)
    outcomes = tuple(applier.apply(index, change) for index, change in enumerate(changes))
    texts = {
        applier.sources.trial_file(name): section.text.encode()
        for name, section in applier.sources.changed.items()
        if name in applier.network.devices
    }
    kept = {name: data for name, data in applier.files.items() if not name.startswith(TRIAL_FOLDER)}
    changed = {**applier.rewritten, **applier.sources.whole_files()}
    differing = {name: text for name, text in changed.items() if text.encode() != files.get(name)}
    return Applied(taken_over(network, applier.network), {**kept, **texts}, outcomes, differing)


class Applier:
    """A network while changes are made to it."""

    def __init__(self, files: Mapping[str, bytes], network: Network):
        self.files = dict(files)
        self.network = network
        self.sources = Sources(files, network)
        self.rewritten: dict[str, str] = {}
        """Files that were changed as a whole."""
        self.done: dict[tuple[object, ...], int] = {}
        """What was changed, by the number of the change that did it."""
        self._number = 0
        self._again: set[int] = set()
        self._was_changed = False

    def apply(self, number: int, change: Change) -> Outcome:
        """Make one change, unless it is off or cannot be made."""
        if not change.is_on:
            return Outcome(change, self.worded(change), "off")
        before = self.network, dict(self.sources.changed), self.files, self.rewritten, self.sources
        done = dict(self.done)
        self._number, self._again, self._was_changed = number, set(), False
        try:
            words, completed = self._made(change)
        except (ChangeError, TextEditError, LoadError) as error:
            self.network, changed, self.files, self.rewritten, self.sources = before
            self.sources.changed, self.done = changed, done
            return Outcome(change, self.worded(change), "error", errors=errors_of(change, error))
        if not self._was_changed:
            return Outcome(completed, words, "nothing", "does nothing: it is so already")
        again = ", ".join(str(one + 1) for one in sorted(self._again))
        return Outcome(completed, words, "applied", f"changes again what change {again} changed" if again else "")

    def worded(self, change: Change) -> str:
        """A change that is not made, in words."""
        rest = ", ".join(f"{key} {written(value)}" for key, value in change.values.items() if key != "text")
        return f"{change.verb} {change.what.replace('_', ' ')} {change.at}{': ' if rest else ''}{rest}"

    def _made(self, change: Change) -> tuple[str, Change]:
        """The change made: it in words, and as it is to be kept."""
        verb, what = change.verb, change.what
        if verb in ("enable", "disable"):
            return self._switch(change), change
        if verb == "restart":
            return self._restart(change)
        if what == "path":
            return self._say(change), change
        if verb == "edit":
            return (self._edit_device if what == "device" else self._edit_file)(change), change
        if verb == "set":
            return self._set(change), change
        if what == "link":
            return self._wire(change), change
        return (self._expect(change), change) if what == "expectation" else self._list(change)

    # What is read again

    def _edit(self, device: str, slot: tuple[object, ...], edit: Callable[[EditableText], EditableText]) -> None:
        """Edit the text of a device and read it again."""
        section = self.sources.device(device)
        old = EditableText.of(section.text)
        new = edit(old)
        if new.text == old.text:
            return
        before, changed = self.network, dict(self.sources.changed)
        self._put_device(device, section, new)
        if self.network.devices[device] is before.devices[device]:
            self.sources.changed = changed  # what it says already holds unsaid
        else:
            self._note((device, *slot))

    def _put_device(self, name: str, section: Section, text: EditableText) -> None:
        known = self.network.devices[name]
        read = self.sources.read(known, text.text, self.network)
        for link in self.network.links:
            for end in link.ends:
                if end.device == name and (
                    end.interface not in read.interfaces or read.interfaces[end.interface].is_loopback
                ):
                    raise ChangeError(f"a link ends at {end}", "", "the interface stays, and no loopback")
        self.sources.put(name, section, text)
        if without_places(read) != without_places(known):
            self.network = replace(self.network, devices={**self.network.devices, name: read})

    def _edit_link(self, index: int, edit: Callable[[EditableText], EditableText]) -> None:
        section = self.sources.link(index)
        old = EditableText.of(section.text)
        new = edit(old)
        if new.text == old.text:
            return
        self._note(("link", index))
        old_link = self.network.links[index]
        link = read_link(new.text.encode(), old_link.place.file, self.network.devices)
        self.sources.put(f"link {index}", section, new)
        links = list(self.network.links)
        links[index] = replace(link, place=old_link.place)
        self.network = replace(self.network, links=tuple(links))

    def _note(self, slot: tuple[object, ...]) -> None:
        self._was_changed = True
        if slot in self.done and self.done[slot] != self._number:
            self._again.add(self.done[slot])
        self.done[slot] = self._number

    # Switches

    def _switch(self, change: Change) -> str:
        on = change.verb == "enable"
        what, at = change.what, change.at
        if what == "interface":
            end = interface_of(self.network, at)
            path = ("interfaces", end.interface)
            self._edit(end.device, (*path, "enabled"), lambda text: _switched(text, path, on))
            return f"{change.verb} interface {at}"
        if what == "adjacency":
            return self._switch_adjacency(change, on)
        if what == "link":
            index = link_of(self.network, at)
            self._switch_link(index, on)
            link = self.network.links[index]
            return f"{change.verb} link {link.name or ' - '.join(map(str, link.ends))}"
        if what == "risk_group":
            members = links_in_group(self.network, at)
            for index in members:
                self._switch_link(index, on)
            return f"{change.verb} the {_counted(len(members), 'link')} of risk group {at}"
        if what == "session":
            return self._switch_session(change, on)
        names = [device_of(self.network, at).name] if what == "device" else devices_at(self.network, at)
        for name in names:
            self._edit(name, ("enabled",), lambda text: _switched(text, (), on))
        of_site = f"the {_counted(len(names), 'device')} of site"
        return f"{change.verb} {'device' if what == 'device' else of_site} {at}"

    def _switch_link(self, index: int, on: bool) -> None:
        def edit(text: EditableText) -> EditableText:
            if isinstance(text.data, list):
                return text if on else text.set((), {"ends": text.data, "enabled": False})
            return _switched(text, (), on)

        self._edit_link(index, edit)

    def _switch_adjacency(self, change: Change, on: bool) -> str:
        name, interface = interface_of(self.network, change.at)
        device = self.network.devices[name]
        path = routing_path(device, device.interfaces[interface].vrf)
        self._edit(name, (*path, "adjacency", interface), lambda text: with_adjacencies(text, path, interface, on))
        return f"{change.verb} the adjacencies of {change.at}"

    def _switch_session(self, change: Change, on: bool) -> str:
        vrf = change.values.get("vrf", DEFAULT_INSTANCE)
        device, address = session_of(self.network, change.at, vrf)
        routing = routing_path(device, vrf)
        self._edit(
            device.name,
            ("neighbors", vrf, address, "enabled"),
            lambda text: _switched(text, neighbor_path(text.data, routing, address), on),
        )
        return f"{change.verb} the session of {device.name} with {address}"

    def _restart(self, change: Change) -> tuple[str, Change]:
        """The session's age begins anew, at both ends where both say one."""
        vrf = change.values.get("vrf", DEFAULT_INSTANCE)
        device, address = session_of(self.network, change.at, vrf)
        to = restarted_at(self.network, change.values.get("to"))
        ends = restarted_ends(self.network, device, vrf, address)
        for name, instance, neighbor_address in ends:
            path = routing_path(self.network.devices[name], instance)

            def edit(text: EditableText, path: Path = path, of: Address = neighbor_address) -> EditableText:
                return text.set((*neighbor_path(text.data, path, of), "established_at"), to)

            self._edit(name, ("neighbors", instance, neighbor_address, "established_at"), edit)
        completed = replace(change, values={**change.values, "to": to})
        return f"restart the session of {device.name} with {address}: up since {to}", completed

    def _say(self, change: Change) -> str:
        """A path that a neighbour outside announces or withdraws."""
        vrf = change.values.get("vrf", DEFAULT_INSTANCE)
        device, address = session_of(self.network, change.at, vrf)
        routing = routing_path(device, vrf)
        said = path_said(self.network, device, vrf, address, change)
        self._edit(
            device.name,
            ("neighbors", vrf, address, "received", str(change.values["for"])),
            lambda text: said.edited(text, neighbor_path(text.data, routing, address)),
        )
        return said.words

    # Single values

    def _set(self, change: Change) -> str:
        what, to = change.what, change.values["to"]
        if what in ATTRIBUTES:
            return self._set_attribute(change)
        if what in SWITCHES or what in ("preference", "install_policy"):
            return self._set_of_device(change)
        name = interface_of(self.network, change.at)
        interface = self.network.devices[name.device].interfaces[name.interface]
        routing = routing_path(self.network.devices[name.device], interface.vrf)
        data = EditableText.of(self.sources.device(name.device).text).data
        if what == "area":
            return self._set_area(change, name, data, routing)
        if what == "vrrp_priority":
            made = PrioritiesSet(change, data, name.interface)
            self._edit(name.device, ("vrrp", *made.paths), made.edit)
            return made.words
        path, default = interface_path(change, name.interface, data, routing)
        was = at_path(data, path)
        self._edit(name.device, path, lambda text: text.remove(path) if to is None else text.set(path, to))
        label = what.replace("_", " ") if what != "acl_in" and what != "acl_out" else what.replace("acl_", "ACL ")
        if len(path) > 3 and what == "bandwidth":
            label = "EIGRP bandwidth"
        return f"{label} of {name.device} {name.interface}: {_shown(was, default)} → {_shown(to, default)}"

    def _set_area(self, change: Change, name: InterfaceName, data: Any, routing: Path) -> str:
        ospf, old = ospf_interface(change, data, routing, name.interface)
        new = area_key(data, ospf, change.values["to"])
        value = at_path(data, (*ospf, "areas", old, "interfaces", name.interface)) or {}

        def edit(text: EditableText) -> EditableText:
            if new == old:
                return text
            without = text.remove((*ospf, "areas", old, "interfaces", name.interface))
            return without.set((*ospf, "areas", new, "interfaces", name.interface), value)

        self._edit(name.device, (*ospf, "area of", name.interface), edit)
        return f"area of {name.device} {name.interface}: {old} → {new}"

    def _set_of_device(self, change: Change) -> str:
        what, to = change.what, change.values["to"]
        device = device_of(self.network, change.at)
        vrf = change.values.get("vrf", DEFAULT_INSTANCE)
        routing = routing_path(device, vrf)
        data = EditableText.of(self.sources.device(device.name).text).data
        where = device.name if vrf == DEFAULT_INSTANCE else f"{device.name}, {vrf}"
        default: object = "none"
        if what == "preference":
            of = change.values.get("of")
            if (of is None) == ("for" not in change.values):
                raise ChangeError("a preference is of a protocol or for a prefix", "", "of: ospf, or for: 10.0.0.0/8")
            if of is None:
                words = insert_preference(change, device, data, routing)
                self._edit(device.name, (*routing, "preference", str(change.values["for"])), words.edit)
                return words.text
            path, default = (*routing, "preferences", of), DEFAULT_PREFERENCES.get(of, "none")
            label = f"preference of {of} on {where}"
        elif what == "install_policy":
            path, label = (*routing, "install_policy"), f"install policy of {where}"
        else:
            if at_path(data, (*routing, "bgp")) is None:
                raise ChangeError(f"{where} does not speak BGP")
            path, label = (*routing, "bgp", "decision", what), f"{what.replace('_', ' ')} on {where}"
            default = {"deterministic_med": True, "missing_med": "best"}.get(what, False)
        was = at_path(data, path)
        self._edit(device.name, path, lambda text: text.remove(path) if to is None else text.set(path, to))
        return f"{label}: {_shown(was, default)} → {_shown(to, default)}"

    def _set_attribute(self, change: Change) -> str:
        vrf = change.values.get("vrf", DEFAULT_INSTANCE)
        device, address = session_of(self.network, change.at, vrf)
        routing = routing_path(device, vrf)
        data = EditableText.of(self.sources.device(device.name).text).data
        made = insert_attribute(change, device, data, routing, neighbor_path(data, routing, address), address)
        slot = ("attribute", vrf, address, change.what, str(change.values.get("on")), str(change.values.get("for")))
        self._edit(device.name, slot, made.edit)
        return made.text

    # Lists

    def _list(self, change: Change) -> tuple[str, Change]:
        device = device_of(self.network, change.at)
        data = EditableText.of(self.sources.device(device.name).text).data
        path, label = list_path(change, device, data)
        items = at_path(data, path) or []
        if not isinstance(items, list):
            raise ChangeError(f"{label} is no list")
        verb, values = change.verb, dict(change.values)
        number = None
        if verb != "add":
            number = entry_number(values, items, label)
            values["was"] = items[number]
            if items.count(items[number]) == 1:
                values.pop("number", None)
            else:  # Of entries that are the same, its number still says which.
                values["number"] = number + 1
        before = None
        if verb in ("add", "move"):
            before = before_number(values, items, label)
            if before is not None and before < len(items):
                values["before"] = items[before] if items.count(items[before]) == 1 else before + 1
        entry = values.get("entry")
        slot = (*path, "entry", written(values["was"]) if number is not None else written(entry))
        if verb == "add":
            at = len(items) if before is None else before
            self._edit(device.name, slot, lambda text: text.insert(path, at, entry))
            where = "at the end" if at == len(items) else f"before entry {at + 1}"
            ordered = change.what in ("acl_entry", "statement", "steering_entry")
            words = f"add to {label}{', ' + where if ordered else ''}: {written(entry)}"
        elif number is not None and verb == "change":
            self._edit(device.name, slot, lambda text: text.set((*path, number), entry))
            words = f"change in {label}: {written(items[number])} → {written(entry)}"
        elif number is not None and verb == "remove":
            self._edit(device.name, slot, lambda text: text.remove((*path, number)))
            words = f"remove from {label}: {written(items[number])}"
        else:
            assert number is not None
            at = len(items) if before is None else before
            if at not in (number, number + 1):
                self._edit(device.name, slot, lambda text: text.move((*path, number), at))
            where = "to the end" if at == len(items) else f"before entry {at + 1}"
            words = f"move in {label} {where}: {written(items[number])}"
        return words, replace(change, values=values)

    def _expect(self, change: Change) -> str:
        text = self.files.get(EXPECTATIONS_FILE, b"").decode("utf-8-sig")
        text, words = expectations_edited(text, self.network.expectations, change)
        self.network = replace(self.network, expectations=read_expectations(text.encode()))
        self._note(("expectation", change.at))
        self.files = {**self.files, EXPECTATIONS_FILE: text.encode()}
        self.rewritten = {**self.rewritten, EXPECTATIONS_FILE: text}
        return words

    # Whole texts

    def _edit_device(self, change: Change) -> str:
        name = device_of(self.network, change.at).name
        section = self.sources.device(name)
        text = change.values["text"]
        if text.rstrip() != section.text.rstrip():
            self._note((name, "text"))
            if section.text.endswith("\n") and not text.endswith("\n"):
                text += "\n"
            self._put_device(name, section, EditableText(text))
        return f"text of {name} edited"

    def _edit_file(self, change: Change) -> str:
        name = change.at
        texts = [one for one in split_dumps(self.files)[0] if not one.startswith(TRIAL_FOLDER)]
        if name not in texts:
            raise no_such("file", name, texts)
        whole = {**self.rewritten, **self.sources.whole_files()}
        old = whole[name] if name in whole else self.files[name].decode("utf-8-sig")
        if change.values["text"] != old:
            self._rewrite(name, change.values["text"], (name, "text"))
        return f"text of {name} edited"

    def _wire(self, change: Change) -> str:
        """A link stated, or stated no more; the network is read anew, for segments move."""
        name = self.sources.network_file
        whole = {**self.rewritten, **self.sources.whole_files()}
        old = whole[name] if name in whole else self.files.get(name, b"").decode("utf-8-sig")
        text, words = links_edited(old, self.network, change, self.sources.is_own)
        self._rewrite(name, text, ("link", words))
        return words

    def _rewrite(self, name: str, text: str, slot: tuple[object, ...]) -> None:
        """A whole file written anew, and the network read from it."""
        self._note(slot)
        whole = {**self.rewritten, **self.sources.whole_files()}
        files = {key: data for key, data in self.files.items() if not key.startswith(TRIAL_FOLDER)}
        files |= {key: one.encode() for key, one in whole.items()} | {name: text.encode()}
        network = read_files(files)
        self.rewritten = {**whole, name: text}
        self.files = files
        self.sources = Sources(files, network)
        self.network = taking_over(self.network, network)


def _switched(text: EditableText, path: Path, on: bool) -> EditableText:
    """``enabled`` of a mapping said where it is not so already; what is on need not be said."""
    was = at_path(text.data, (*path, "enabled"))
    if (was is not False) == on:
        return text
    return text.remove((*path, "enabled")) if on else text.set((*path, "enabled"), False)


def _shown(value: Any, default: object) -> str:
    if value is None:
        return str(default)
    return ", ".join(map(str, value)) if isinstance(value, list) else written(value).strip('"')


def _counted(count: int, what: str) -> str:
    return f"{count:,} {what}{'' if count == 1 else 's'}"
