"""The inventory: which devices there are, and how each is asked. docs/collecting.md says what each key means."""

import ipaddress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.grammar import (
    Boolean,
    Choice,
    Group,
    Integer,
    Kind,
    ListOf,
    MapOf,
    Reading,
    Record,
    Text,
    entries_of,
    items_of,
)
from routrel.formats.models.device import READERS
from routrel.formats.routing_grammar import NAMED
from routrel.formats.yaml_nodes import parse_document
from routrel.model.places import Place

DEFAULT_SECONDS = 30
DEFAULT_AT_ONCE = 50
ENVIRONMENT_NAME = r"[A-Za-z_][A-Za-z0-9_]*"
TREES = tuple(f"{module}:{name}" for module, name in READERS)
"""The trees of models that are asked for, unless an inventory names others."""

_ACCESS: dict[str, Kind] = {
    "user": Text(),
    "port": Integer(1, 65535),
    "seconds": Integer(1, 600),
    "sudo": Boolean(),
    "keys": ListOf(Text("a file")),
    "known_hosts": Text("a file"),
    "password_from": Text("the name of an environment variable", ENVIRONMENT_NAME),
    "token_from": Text("the name of an environment variable", ENVIRONMENT_NAME),
    "authorities": Text("a file"),
    "trees": ListOf(Text("a tree like ietf-interfaces:interfaces", r"[A-Za-z0-9_.-]+:[A-Za-z0-9_.-]+"), least=1),
}
INVENTORY = Group(
    "an inventory",
    {
        "inventory": Choice(("1",)),
        "name": Text(),
        "at_once": Integer(1, 1000),
        "into": Text("the id of a network"),
        "every": Integer(1, 10_080),
        "defaults": Group("defaults", dict(_ACCESS)),
        "devices": MapOf(
            NAMED,
            Group(
                "a device of an inventory",
                {
                    "over": Choice(("ssh", "netconf", "restconf")),
                    "address": Text("a host"),
                    "url": Text("a URL"),
                    **_ACCESS,
                },
                required=("over",),
            ),
        ),
    },
    required=("inventory", "devices"),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """A device to ask: ``address`` and ``port`` (0: the usual one) over SSH and NETCONF, ``url`` over RESTCONF.

    ``seconds`` are for all of it.
    """

    name: str
    over: Literal["ssh", "netconf", "restconf"]
    address: str = ""
    port: int = 0
    url: str = ""
    user: str | None = None
    seconds: int = DEFAULT_SECONDS
    sudo: bool = False
    keys: tuple[Path, ...] = ()
    known_hosts: Path | None = None
    password_from: str | None = None
    token_from: str | None = None
    authorities: Path | None = None
    trees: tuple[str, ...] = TREES


@dataclass(frozen=True, slots=True)
class Inventory:
    """Devices to ask, at most ``at_once`` of them at a time; a server's worker asks them ``every`` so many minutes and
    keeps what they say ``into`` a network."""

    name: str
    at_once: int
    targets: tuple[Target, ...]
    into: str | None = None
    every: int | None = None


def read_inventory(data: bytes, file: str, folder: Path) -> Inventory:
    """The inventory of a text, files named relative to ``folder``; raises ``LoadError`` with all errors."""
    errors = ErrorList()
    record = INVENTORY.read(parse_document(data, file), Reading(file, errors))
    targets = []
    if isinstance(record, Record):
        defaults = record["defaults"].values if "defaults" in record else {}
        for name, one, place in entries_of(record["devices"]):
            targets.append(_target(name, one, {**defaults, **one.values}, place, folder, errors))
    errors.raise_if_any()
    at_once = record.get("at_once", DEFAULT_AT_ONCE)
    return Inventory(record.get("name", ""), at_once, tuple(targets), record.get("into"), record.get("every"))


def _target(name: str, one: Record, values: dict[str, Any], place: Place, folder: Path, errors: ErrorList) -> Target:
    over = one["over"]
    needed, other = ("url", "address") if over == "restconf" else ("address", "url")
    if needed not in one:
        errors.add(place, f"a device that is asked over {over} needs the key {needed!r}", found=quoted(name))
    if other in one:
        errors.add(one.place_of(other), f"{other!r} is not for devices that are asked over {over}", allowed=needed)
    if over == "restconf" and "url" in one:
        _check_url(one, errors)
    kept = dict(values)
    for key in ("known_hosts", "authorities"):
        if key in kept:
            kept[key] = folder / Path(str(kept[key])).expanduser()
    if "keys" in kept:
        kept["keys"] = tuple(folder / Path(file).expanduser() for file, _ in items_of(kept["keys"]))
    if "trees" in kept:
        kept["trees"] = tuple(tree for tree, _ in items_of(kept["trees"]))
    return Target(name=name, **kept)


def _check_url(one: Record, errors: ErrorList) -> None:
    """RESTCONF runs over TLS (RFC 8040 section 2.1); in the clear only to this machine itself."""
    url = urlsplit(one["url"])
    try:
        is_own = ipaddress.ip_address(url.hostname or "").is_loopback
    except ValueError:
        is_own = url.hostname == "localhost"
    if url.scheme not in ("https", "http") or not url.hostname:
        errors.add(one.place_of("url"), "this is no URL", found=quoted(one["url"]), allowed="https://HOST/restconf")
    elif url.username or url.password:
        errors.add(one.place_of("url"), "no secret stands in an inventory", allowed="user, with password_from")
    elif url.scheme == "http" and not is_own:
        errors.add(one.place_of("url"), "this would go over the network in the clear", allowed="https")
