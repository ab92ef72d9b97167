"""What a BGP neighbour outside the network announces and withdraws, as edits of its neighbour in the text."""

from typing import Any, NamedTuple

from routrel.formats.changes.finding import ChangeError
from routrel.formats.changes.text_edits import EditableText, Path, at_path
from routrel.formats.errors import quoted
from routrel.formats.received_path import read_path
from routrel.model.addresses import Address, Prefix
from routrel.model.changes import Change
from routrel.model.devices import Device
from routrel.model.network import Network
from routrel.model.routing import DEFAULT_INSTANCE


class PathSaid(NamedTuple):
    """``entry`` is the path as the text has it, None where it is withdrawn; ``prefix`` None is all of them."""

    prefix: Prefix | None
    entry: dict[str, Any] | None
    is_dumped: bool
    """Whether a dump has a path of the prefix, which then counts no more."""
    words: str

    def edited(self, text: EditableText, neighbor: Path) -> EditableText:
        """The device's text with it."""
        received = (*neighbor, "received")
        if self.prefix is None:
            return text.remove(received)
        items = at_path(text.data, received) or []
        at = next((number for number, one in enumerate(items) if _is_of(one, self.prefix)), None)
        if self.entry is not None:
            if at is None:
                text = text.insert(received, len(items), self.entry)
            elif items[at] != self.entry:
                text = text.set((*received, at), self.entry)
        elif at is not None:
            text = text.remove((*received, at))
        gone = (*neighbor, "withdrawn")
        standing = at_path(text.data, gone) or []
        if self.is_dumped and str(self.prefix) not in standing:
            text = text.insert(gone, len(standing), str(self.prefix))
        return text


def _is_of(item: Any, prefix: Prefix) -> bool:
    try:
        return Prefix.parse(str(item["prefix"])) == prefix
    except (KeyError, TypeError, ValueError):
        return False


def path_said(network: Network, device: Device, vrf: str, address: Address, change: Change) -> PathSaid:
    """What a change says; raises ``ChangeError`` where the neighbour is a device of the network, ``LoadError``."""
    for other in network.devices.values():
        if any(one.address == address for of in other.interfaces.values() for one in of.addresses):
            raise ChangeError(f"{address} is {other.name} of this network: what it says is computed", quoted(change.at))
    routing = device.routing if vrf == DEFAULT_INSTANCE else device.vrfs[vrf]
    assert routing is not None and routing.bgp is not None
    neighbor = next(one for one in routing.bgp.neighbors if one.address == address)
    prefix, path = read_path(change)
    dumped = [one for one in neighbor.received if one.file.partition(".mrt")[1]]
    if prefix is None and dumped:
        raise ChangeError("a dump has its paths: end the session", "for: all", "disable: session, or a prefix")
    is_dumped = any(prefix in one.known for one in dumped)
    entry = None if path is None else {"prefix": str(prefix), **change.values["path"]}
    verb = "withdraws" if path is None else "announces"
    return PathSaid(prefix, entry, is_dumped, f"{address} {verb} {prefix or 'all'} to {device.name}")
