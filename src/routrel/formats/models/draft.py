"""What is made of a device's statements: the keys of the network file, each value with the statement that says it.

The network file's own grammar and builder read a draft, so a value that cannot be is refused in the same words, at
its place in the document.
"""

import re
from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

import yaml

from routrel.formats.errors import ErrorList, InputError, LoadError, quoted
from routrel.formats.grammar import NAME, Reading
from routrel.formats.models.statements import MAX_STATEMENTS, Statement
from routrel.formats.yaml_nodes import Node
from routrel.model.addresses import Address, InterfaceAddress
from routrel.model.devices import Gap
from routrel.model.observed import ObservedNeighbor
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE

UP_STATES = ("established", "full", "2-way", "two_way", "up")
"""States in which neighbours exchange routes; 2-way is that of two routers of a segment that others speak for."""

IN_TURN = ("policies", "acls", "forwarding_policies")
"""Keys below which lists are asked item by item."""

SHOWN_PREFERENCES = ("static", "ospf", "isis", "rip")
"""Protocols whose routes all have one preference, unless something gives some another."""

MOST_STATED = MAX_STATEMENTS
"""VLANs of all ports of a device: as many as there may be statements."""

_PLAIN = re.compile(r"[0-9]+|true|false")


class Said(NamedTuple):
    """A value with the statement that says it."""

    text: str
    by: Statement


class Draft(dict[str, Any]):
    """A mapping of the network file: keys to ``Said``, lists, or drafts; ``by`` is the statement it stands for."""

    def __init__(self, by: Statement, **values: Any):
        super().__init__({key: value for key, value in values.items() if value is not None})
        self.by = by

    def put(self, key: str, statement: Statement | None, text: str | None = None) -> None:
        """What a leaf says, or ``text`` in its place; nothing where there is no leaf."""
        if statement is not None and statement.value is not None:
            self[key] = Said(statement.value if text is None else text, statement)

    def inner(self, key: str, by: Statement) -> "Draft":
        """The mapping under a key, made where it is not there yet."""
        found = self.get(key)
        if found is None:
            found = self[key] = Draft(by)
        assert isinstance(found, Draft)
        return found


class UnrepresentedError(Exception):
    """A condition or action that the model cannot hold: message and statement."""

    def __init__(self, message: str, by: Statement):
        super().__init__(message)
        self.by = by


def place_of(statement: Statement) -> Place:
    """Where a statement begins."""
    return Place(statement.file, statement.line + 1, statement.column + 1)


class StatementReading(Reading):
    """A pass of the grammar over what was made of statements: places are theirs."""

    def place_of(self, node: Node) -> Place:
        mark: Any = node.start_mark
        return place_of(mark)


def node_of(value: Any, by: Statement, is_ordered: bool = False) -> Node:
    """A draft, or a part of one, as the grammar reads it; ``is_ordered`` for lists in which every item has its turn."""
    mark: Any = by
    if isinstance(value, Draft):
        mark = value.by
        pairs = [
            (_scalar(key, _by(inner, mark), True), node_of(inner, mark, is_ordered or key in IN_TURN))
            for key, inner in value.items()
        ]
        return yaml.MappingNode("", pairs, mark)
    if isinstance(value, list):
        items = value
        if not is_ordered:
            # Documents of configuration and of state say the same twice: what stands first is kept.
            once: dict[Any, Any] = {}
            for one in value:
                once.setdefault(_data_of(one), one)
            items = list(once.values())
        return yaml.SequenceNode("", [node_of(one, by, is_ordered) for one in items], mark)
    if isinstance(value, Said):
        return _scalar(value.text, value.by)
    return _scalar(str(value), by)


def _said(value: Any, by: Statement) -> Any:
    """Plain data as a part of a draft."""
    if isinstance(value, dict):
        return Draft(by, **{str(key): _said(one, by) for key, one in value.items()})
    if isinstance(value, list):
        return [_said(one, by) for one in value]
    return Said(str(value).lower() if isinstance(value, bool) else str(value), by)


def _data_of(value: Any) -> Any:
    """What a draft says, apart from where it is said."""
    if isinstance(value, Draft):
        return tuple((key, _data_of(inner)) for key, inner in value.items())
    if isinstance(value, list):
        return tuple(map(_data_of, value))
    return value.text if isinstance(value, Said) else value


def _by(value: Any, by: Statement) -> Statement:
    return value.by if isinstance(value, Draft | Said) else by


def _scalar(text: str, by: Statement, is_key: bool = False) -> Node:
    mark: Any = by
    plain = not is_key and _PLAIN.fullmatch(text)
    return yaml.ScalarNode("", text, mark, None, style=None if plain else '"')


KINDS: dict[type, type] = {Draft: dict, list: list}
"""What a part of a draft is as plain data."""


class DeviceDraft:
    """One device while its documents are read."""

    def __init__(self, name: str, errors: ErrorList):
        self.name = name
        self.errors = errors
        self.root: Draft | None = None
        self.hostname: Said | None = None
        self.gaps: list[Gap] = []
        self.seen_alive: list[tuple[str, Said]] = []
        """Neighbours' addresses with the interface they answer on."""
        self.observed_neighbors: list[ObservedNeighbor] = []
        self.forwarding: list[tuple[str, Statement]] = []
        """Interfaces with whether packets for others pass by them (RFC 8344)."""
        self.lldp: list[LldpNeighbor] = []
        self.vlans: list[Said] = []
        """Those that the device lists, by their numbers."""
        self.trunks_of_all: list[Draft] = []
        """Ports that carry every VLAN of the device."""
        self._tagged = 0
        self.chains: dict[str, Chain] = {}
        """By the name of the policy that stands for it."""
        self.asked_alone: dict[str, Said] = {}
        """Policies that something asks by themselves."""
        self.own_as: Statement | None = None
        self._preferences: dict[tuple[str, str], Statement | None] = {}
        """Preferences that a table shows, by instance and protocol; None where routes of one protocol differ."""
        self._fitted: dict[str, str] = {}

    def carry(self, vlans: int, by: Statement) -> None:
        """Count VLANs that a port is to carry, which few words may say of many ports; raises ``LoadError``."""
        self._tagged += vlans
        if self._tagged > MOST_STATED:
            allowed = f"at most {MOST_STATED:,} VLANs of ports on a device"
            raise LoadError([InputError(place_of(by), "the trunks of this device carry too much", allowed=allowed)])

    def begin(self, by: Statement) -> Draft:
        """The device's own keys."""
        if self.root is None:
            self.root = Draft(by)
        return self.root

    def interface(self, name: str, by: Statement) -> Draft:
        return self.begin(by).inner("interfaces", by).inner(name, by)

    def interfaces(self) -> dict[str, Draft]:
        """The interfaces so far, by name."""
        return dict(self.root.get("interfaces", {})) if self.root is not None else {}

    def routing(self, instance: str, by: Statement) -> Draft:
        """The routing of the default instance, or of a VRF."""
        root = self.begin(by)
        if instance == DEFAULT_INSTANCE:
            return root.inner("routing", by)
        return root.inner("vrfs", by).inner(instance, by).inner("routing", by)

    def ospf_process(self, routing: Draft, name: str, version: str, by: Statement) -> Draft:
        """The OSPF process of a name and version, one over all documents of the device."""
        processes: list[Draft] = routing.setdefault("ospf", [])
        for known in processes:
            if (known["instance"].text, known["version"].text) == (name, version):
                return known
        processes.append(Draft(by, instance=Said(name, by), version=Said(version, by)))
        return processes[-1]

    def merge(self, into: Draft, data: dict[str, Any], by: Statement) -> None:
        """Add plain data of the network file, all said by one statement."""
        for key, value in data.items():
            known = into.get(key)
            if known is not None and isinstance(known, Draft | list) and type(value) is not KINDS[type(known)]:
                what = f"{key!r} is said otherwise by the models of this device"
                self.errors.add(place_of(by), what, allowed="a list" if isinstance(known, list) else "a mapping")
            elif isinstance(value, dict):
                self.merge(into.inner(key, by), value, by)
            elif key == "ospf" and isinstance(value, list) and all(isinstance(one, dict) for one in value):
                for one in value:
                    name, version = str(one.get("instance", DEFAULT_INSTANCE)), str(one.get("version", 2))
                    self.merge(self.ospf_process(into, name, version, by), one, by)
            elif isinstance(value, list):
                into.setdefault(key, []).extend(_said(one, by) for one in value)
            else:
                into[key] = _said(value, by)

    def listed(self, key: str, value: Draft) -> None:
        """A further item of one of the device's lists."""
        self.begin(value.by).setdefault(key, []).append(value)

    def chain(self, policies: list[Statement], default: Statement | None) -> Said | None:
        """The policy that stands for policies asked in order and what decides after them; None where none is said."""
        named = [Said(self.fitting(one.value or ""), one) for one in policies if one.value]
        accepts = default is not None and is_accepting(default)
        if not named and (default is None or accepts):
            return None
        if len(named) == 1 and not accepts:
            self.asked_alone.setdefault(named[0].text, named[0])
            return named[0]
        by = named[0].by if named else default
        assert by is not None
        words = [one.text for one in named] + (["else-accept"] if accepts else [] if named else ["reject-all"])
        name = self.fitting(" ".join(words))
        self.chains[name] = Chain(named, Said("accept" if accepts else "reject", default or by), by)
        return Said(name, by)

    def asked_policies(self) -> list[Said]:
        """Every policy that is asked, by itself or in a chain."""
        return [*self.asked_alone.values(), *(said for chain in self.chains.values() for said in chain.policies)]

    def saw_preference(self, instance: str, protocol: str, said: Statement) -> None:
        """Note the preference of a route in a table of the device."""
        known = self._preferences.setdefault((instance, protocol), said)
        if known is not None and known.value != said.value:
            self._preferences[instance, protocol] = None

    def take_preferences(self) -> None:
        """A protocol's preference that nothing configures is the one that the device's own table shows."""
        for (instance, protocol), said in self._preferences.items():
            root: Any = self.root if self.root is not None else {}
            holder = root if instance == DEFAULT_INSTANCE else root.get("vrfs", {}).get(instance)
            if said is not None and protocol in SHOWN_PREFERENCES and "routing" in (holder or {}):
                preferences = holder["routing"].inner("preferences", said)
                if protocol not in preferences:
                    preferences.put(protocol, said)

    def saw_neighbor(
        self, protocol: str, entry: Statement, name: str | None, state: str | None, interface: str, instance: str
    ) -> None:
        """Note the state of a neighbour as the device tells it."""
        entry.read_all()
        if name and state:
            word = state.rpartition(":")[2].lower()
            found = ObservedNeighbor(protocol, word, word in UP_STATES, name, interface, instance, place_of(entry))
            self.observed_neighbors.append(found)

    def dangling(self, said: Said, what: str, names: Iterable[str]) -> None:
        """Note a name that names nothing."""
        self.errors.dangling(place_of(said.by), what, said.text, names)

    def gap(self, message: str, by: Statement, affects: str = "") -> None:
        """Something that is stated and the model cannot hold."""
        self.gaps.append(Gap(message, place_of(by), affects))

    def fitting(self, name: str) -> str:
        """A list's or policy's name as the network file may have it: other characters become dashes."""
        if name not in self._fitted:
            plain = re.sub(r"^[^A-Za-z0-9]+", "", re.sub(r"[^A-Za-z0-9._-]", "-", name))[:58] or "unnamed"
            taken = set(self._fitted.values())
            others = (f"{plain}-{number}" for number in range(2, len(taken) + 3))
            self._fitted[name] = next(
                one for one in (name, plain, *others) if re.fullmatch(NAME, one) and one not in taken
            )
        return self._fitted[name]

    def keyed(self, entries: Iterable[Statement], *keys: str) -> Iterator[tuple[str, Statement]]:
        """Entries of a list with the text of their first key; one without its keys, or twice, is an error."""
        seen: dict[tuple[str, ...], Statement] = {}
        for entry in entries:
            values = [entry.text(key) for key in keys]
            if not values[0]:
                self.errors.add(place_of(entry), f"an entry of {entry.name!r} without its key {keys[0]!r}")
                continue
            own = tuple(value or "" for value in values)
            first = seen.setdefault(own, entry)
            if first is not entry:
                self.errors.add(
                    place_of(entry),
                    f"the entry stands twice; first in line {first.line + 1}",
                    found=quoted(", ".join(own)),
                    allowed=f"one entry of {entry.name!r} for each {' and '.join(keys)}",
                )
                continue
            yield values[0], entry


class Chain(NamedTuple):
    """Policies asked in order, and what becomes of a route that none of them decides."""

    policies: list[Said]
    default: Said
    by: Statement


class LldpNeighbor(NamedTuple):
    """What an interface hears of the device at its other end (IEEE 802.1AB)."""

    interface: str
    system: str
    port: str
    by: Statement


def prefix_of(statement: Statement | None, text: str | None = None) -> Said | None:
    """A prefix whose host bits may be set, as YANG's type allows (RFC 6991), without them."""
    said = text if text is not None else statement.value if statement is not None else None
    if statement is None or said is None:
        return None
    try:
        return Said(str(InterfaceAddress.parse(said).prefix), statement)
    except ValueError:
        return Said(said, statement)


def is_accepting(default: Statement) -> bool:
    """Whether what no policy decides is accepted."""
    return (default.value or "").rpartition(":")[2].upper().startswith("ACCEPT")


def address_of(statement: Statement | None) -> Said | None:
    """An address without a zone (RFC 6991: ``ip-address`` may end in ``%zone``)."""
    if statement is None or statement.value is None:
        return None
    return Said(statement.value.partition("%")[0], statement)


def family_of(said: Said) -> int | None:
    """The family of an address or prefix, None where it is neither."""
    try:
        return Address.parse(said.text.partition("/")[0]).family
    except ValueError:
        return None
