"""Files of flows that commands take: a JSON list, each with its keys checked."""

from pathlib import Path
from typing import Any

from routrel.cli_output import CallError, bytes_of
from routrel.formats.json_items import json_items
from routrel.forwarding.flow import Flow


def flows_of(name: str) -> list[Flow]:
    """The flows of a file."""
    return [_flow_of(item, str(place)) for item, place in json_items(bytes_of(name), Path(name).name)]


def _flow_of(item: dict[str, Any], where: str) -> Flow:
    allowed = ("from", "to", "service", "source_port", "enter", "source", "vrf")
    unknown = [key for key in item if key not in allowed]
    if unknown:
        raise CallError(f"{where}: unknown key {unknown[0]!r} in a flow; allowed: {', '.join(allowed)}")
    for key in ("from", "to"):
        if not isinstance(item.get(key), str):
            raise CallError(f"{where}: a flow needs {key!r} as text")
    for key in ("service", "enter", "source", "vrf"):
        if not isinstance(item.get(key), str | None):
            raise CallError(f"{where}: {key!r} must be text")
    port = item.get("source_port")
    if port is not None and (not isinstance(port, int) or isinstance(port, bool)):
        raise CallError(f"{where}: 'source_port' must be an integer")
    others = (item.get(key) for key in ("enter", "source", "vrf"))
    return Flow(item["from"], item["to"], item.get("service") or "icmp", port, *others)
