"""Changes of the links that a network's file states: a cable that nobody told of, or one that is not there."""

from collections.abc import Callable
from typing import Any

from routrel.formats.changes.finding import ChangeError, interface_of, link_of
from routrel.formats.changes.text_edits import EditableText, TextEditError, written
from routrel.formats.errors import quoted
from routrel.model.changes import Change
from routrel.model.network import InterfaceName, Network
from routrel.model.places import Place


def links_edited(text: str, network: Network, change: Change, is_own: Callable[[Place], bool]) -> tuple[str, str]:
    """The network file's text with a link more or less, and the change in words; '' where there is no file yet.

    ``is_own`` says whether a place is in such a text: what devices hear of each other is not taken out there.
    """
    stated = [number for number, link in enumerate(network.links) if link.place and is_own(link.place)]
    if change.verb == "remove":
        number = link_of(network, change.at)
        link = network.links[number]
        if number not in stated:
            raise TextEditError("no file states this link: disable an interface instead")
        without = EditableText.of(text).remove(("links", stated.index(number)))
        return without.text, f"no link {link.name or ' - '.join(map(str, link.ends))}"
    ends = _ends(network, change)
    entry: dict[str, Any] = {"ends": [str(end) for end in ends]}
    if "name" in change.values:
        entry["name"] = change.values["name"]
    whole = EditableText.of(text or f"routrel: 1\nname: {written(network.name or 'network')}\n")
    if "links" in whole.data or whole.root.flow_style:
        edited = whole.insert(("links",), len(stated), entry).text
    else:
        edited = f"{whole.text.rstrip()}\nlinks:\n- {written(entry)}\n"  # a line each for those that will follow
    return edited, f"link {' - '.join(map(str, ends))}"


def _ends(network: Network, change: Change) -> list[InterfaceName]:
    to = change.values["to"]
    others = to if isinstance(to, list) else [to]
    if not others or not all(isinstance(one, str) for one in others):
        raise ChangeError("a link has another end", quoted(to), "to: an interface, device:interface, or a list")
    ends = [interface_of(network, one) for one in (change.at, *others)]
    for end in ends:
        if network.devices[end.device].interfaces[end.interface].is_loopback:
            raise ChangeError("a loopback is on no link", quoted(end))
        if ends.count(end) > 1:
            raise ChangeError("the two ends are one interface", quoted(end), "another interface")
        for link in network.links:
            if end in link.ends:
                known = " and ".join(str(one) for one in link.ends if one != end)
                raise ChangeError(f"{end} is cabled to {known} already", quoted(end), "an interface on no link")
    return ends
