"""Statements put into policies: attributes of what a BGP session hears or says, preferences of single prefixes."""

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from routrel.formats.changes.finding import ChangeError
from routrel.formats.changes.text_edits import EditableText, Path, at_path, written
from routrel.formats.changes.vocabulary import EXPORTED
from routrel.formats.errors import quoted
from routrel.model.addresses import Address
from routrel.model.changes import Change
from routrel.model.devices import Device


@dataclass(frozen=True)
class Inserted:
    """An edit of a device's text, and what it does in words."""

    edit: Callable[[EditableText], EditableText]
    text: str


def insert_attribute(
    change: Change, device: Device, data: Any, routing: Path, neighbor: Path, address: Address
) -> Inserted:
    """A statement that sets an attribute before all others of a session's policy, and goes on to them.

    A policy that others share is copied first; where there is none, one comes that accepts everything.
    """
    what, to = change.what, change.values["to"]
    on = change.values.get("on", "export" if what in EXPORTED else "import")
    if on not in ("import", "export"):
        raise ChangeError("this is no direction of a session", quoted(on), "import or export")
    value: Any = to
    key = what
    if what == "prepend":
        key, value = "as_path_prepend", {"as": at_path(data, (*routing, "bgp", "as")), "times": to}
    statement: dict[str, Any] = {"set": {key: value}, "result": "continue"}
    prefixes = _prefixes(change)
    if prefixes:
        statement = {"match": {"prefixes": prefixes}, **statement}
    session = at_path(data, neighbor)
    is_external = str(session.get("as")) != str(at_path(data, (*routing, "bgp", "as")))
    name = session.get(on)
    if name is None and is_external and at_path(data, (*routing, "bgp", "require_policies")) is True:
        raise ChangeError(f"the session has no {on} policy and lets nothing pass without one", "", f"a policy as {on}")
    edit = _policy_edit(data, name, (*neighbor, on), f"{on}-{address}", statement)
    routes = f"what {device.name} {'hears from' if on == 'import' else 'says to'} {address}"
    about = f" about {', '.join(prefixes)}" if prefixes else ""
    label = {"med": "MED", "prepend": "own AS prepended"}.get(what, what.replace("_", " "))
    again = _sets_again(at_path(data, ("policies", name)) if name is not None else None, statement)
    return Inserted(edit, f"{label} of {routes}{about}: {written(to)}{again}")


def insert_preference(change: Change, device: Device, data: Any, routing: Path) -> Inserted:
    """A statement of the install policy that gives prefixes another preference, and goes on to the others.

    From one neighbour alone, EIGRP has a list of its own for it.
    """
    prefixes, to = _prefixes(change), change.values["to"]
    source = change.values.get("from")
    said = f"preference of {', '.join(prefixes)} on {device.name}"
    if source is not None and at_path(data, (*routing, "eigrp")) is not None:
        entry = {"neighbor": source, "prefixes": prefixes, "preference": to}
        path = (*routing, "eigrp", "distance")
        return Inserted(lambda text: text.insert(path, 0, entry), f"{said} from {source} by EIGRP: {written(to)}")
    match: dict[str, Any] = {"prefixes": prefixes}
    if source is not None:
        match["neighbor"] = source
    statement = {"match": match, "set": {"preference": to}, "result": "continue"}
    name = at_path(data, (*routing, "install_policy"))
    edit = _policy_edit(data, name, (*routing, "install_policy"), "install", statement)
    return Inserted(edit, f"{said}{f' from {source}' if source is not None else ''}: {written(to)}")


def _prefixes(change: Change) -> list[str]:
    value = change.values.get("for")
    values = value if isinstance(value, list) else [] if value is None else [value]
    if not all(isinstance(one, str) for one in values):
        raise ChangeError("prefixes are expected here", quoted(value), "for: 10.0.0.0/8, or a list of prefixes")
    return values


def _policy_edit(
    data: Any, name: str | None, asked: Path, new: str, statement: dict[str, Any]
) -> Callable[[EditableText], EditableText]:
    """The statement put in front of the policy that stands at ``asked``."""
    policies = at_path(data, ("policies",)) or {}
    wanted = re.sub(r"[^A-Za-z0-9._-]", "-", new)
    while wanted in policies:
        wanted += "-2"
    if name is None:
        made = [statement, {"result": "accept"}]
        return lambda text: text.set(("policies", wanted), made).set(asked, wanted)
    same = _like(policies.get(name), statement)
    if same is not None and _uses(data, name) == 1:
        return lambda text: text.set(("policies", name, same), statement)
    if name in policies and _uses(data, name) > 1:
        copy = [statement, *policies[name]]
        return lambda text: text.set(("policies", wanted), copy).set(asked, wanted)
    return lambda text: text.insert(("policies", name), 0, statement)


def _like(statements: Any, statement: dict[str, Any]) -> int | None:
    """The index of a statement that was put in front for the same attribute and the same routes: a later change of it
    takes its place."""
    for index, one in enumerate(statements if isinstance(statements, list) else ()):
        if not isinstance(one, dict) or one.get("result") != "continue":
            return None
        if one.get("match") == statement.get("match") and list(one.get("set") or ()) == list(statement["set"]):
            return index
    return None


def _sets_again(statements: Any, statement: dict[str, Any]) -> str:
    """That later statements of a policy set an attribute, too, in words."""
    (key,) = statement["set"]
    same = _like(statements, statement)
    numbers = [
        str(index + 1)
        for index, one in enumerate(statements if isinstance(statements, list) else ())
        if index != same and isinstance(one, dict) and key in (one.get("set") or {})
    ]
    if not numbers:
        return ""
    what = "statement" if len(numbers) == 1 else "statements"
    return f" (set again by what is {what} {', '.join(numbers)} of its policy now, where that matches)"


def _uses(data: Any, name: str) -> int:
    """How often a policy is named in a device's data."""
    if isinstance(data, dict):
        named: int = sum(data.get(key) == name for key in ("import", "export", "policy", "install_policy"))
        return named + sum(_uses(one, name) for one in data.values())
    return sum(_uses(one, name) for one in data) if isinstance(data, list) else 0
