"""Where a device's text says whether an interface forms adjacencies in OSPF, IS-IS and EIGRP."""

from typing import Any

from routrel.formats.changes.finding import ChangeError, ospf_paths
from routrel.formats.changes.text_edits import EditableText, Path, at_path

ALLOWED = "an interface of OSPF, IS-IS or EIGRP"


def adjacency_paths(data: Any, routing: Path, interface: str) -> list[Path]:
    """The settings of an interface in each of these protocols."""
    places = [
        (*path, "areas", area)
        for path in ospf_paths(data, routing, None)
        for area in at_path(data, (*path, "areas")) or {}
    ]
    places += [(*routing, protocol) for protocol in ("isis", "eigrp")]
    return [
        (*place, "interfaces", interface)
        for place in places
        if interface in (at_path(data, (*place, "interfaces")) or {})
    ]


def with_adjacencies(text: EditableText, routing: Path, interface: str, on: bool) -> EditableText:
    """The text with an interface's adjacencies on or off; raises ``ChangeError``."""
    paths = adjacency_paths(text.data, routing, interface)
    if not paths:
        raise ChangeError(f"{interface} forms no adjacencies", "", ALLOWED)
    for path in paths:
        passive = (*path, "passive")
        if on:
            text = text.remove(passive)
        elif at_path(text.data, passive) is not True:
            text = text.set(passive, True)
    return text
