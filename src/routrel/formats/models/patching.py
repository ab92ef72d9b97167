"""The difference of two documents of a device: as a YANG patch (RFC 8072), and as NETCONF's ``edit-config`` (RFC 6241).

An edit names its target by the keys of the lists it passes. Entries of lists whose order means something (entries of
access lists, statements of policies) come in at their place; where what stays changes order, all go out and in anew.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import quote
from xml.sax.saxutils import escape

from routrel.formats.models.rest import REST_MODULE
from routrel.formats.models.writing_xml import EMPTY, leaf_line, member_lines, split_name
from routrel.formats.models.xml_statements import IETF, NETCONF

Data = dict[str, Any]
Operation = Literal["create", "delete", "insert", "replace"]

KEYS: dict[str, tuple[str, ...]] = {
    "address": ("ip",),
    "control-plane-protocol": ("type", "name"),
    "route": ("destination-prefix",),
    "next-hop": ("index",),
    "area": ("area-id",),
    "range": ("prefix",),
    "neighbor": ("remote-address",),
    "vrrp-instance": ("vrid",),
    "network": ("prefix",),
    "virtual-ipv4-address": ("ipv4-address",),
    "virtual-ipv6-address": ("ipv6-address",),
    "prefix-set": ("name", "mode"),
    "prefix-list": ("ip-prefix", "mask-length-lower", "mask-length-upper"),
}
"""The keys of lists, by their name; of all others the first that their entries have of ``OTHER_KEYS``."""

OTHER_KEYS = ("name", "interface", "interface-id")
ITSELF = "."
"""Stands for the key of a leaf-list's value, which is the value itself."""

ORDERED = ("ace", "statement")
"""Lists that are ordered by the user (RFC 7950 section 7.7.7)."""


QUOTED = {'"': "&quot;"}


@dataclass(frozen=True, slots=True)
class Step:
    """A node on the way to a target, with the keys and values of a list's entry."""

    name: str
    keys: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        values = ",".join(quote(value, safe="") for _, value in self.keys)
        return f"{self.name}={values}" if self.keys else self.name


@dataclass(frozen=True, slots=True)
class Edit:
    """``after`` is the entry that an inserted one follows, None where it comes first."""

    operation: Operation
    target: tuple[Step, ...]
    value: Any = None
    after: Step | None = None

    @property
    def path(self) -> str:
        return "/" + "/".join(map(str, self.target))


def edits_between(old: Data, new: Data) -> list[Edit]:
    """What makes one document of another, in an order that can be done, without what no published model says."""
    return [edit for edit in _of_mapping(old, new, ()) if not edit.target[0].name.startswith(f"{REST_MODULE}:")]


def _of_mapping(old: Data, new: Data, path: tuple[Step, ...]) -> Iterator[Edit]:
    for name in [*new, *(name for name in old if name not in new)]:
        yield from _of_member(name, old.get(name), new.get(name), path)


def _of_member(name: str, old: Any, new: Any, path: tuple[Step, ...]) -> Iterator[Edit]:
    if old == new:
        return
    target = (*path, Step(name))
    if _is_list(old) or _is_list(new):
        yield from _of_list(name, old or [], new or [], path)
    elif isinstance(old or new, list) and EMPTY not in (old, new):
        yield from _of_values(name, old or [], new or [], path)
    elif isinstance(old, dict) and isinstance(new, dict):
        yield from _of_mapping(old, new, target)
    elif new is None:
        yield Edit("delete", target)
    else:
        yield Edit("create" if old is None else "replace", target, new)


def _is_list(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and isinstance(value[0], dict)


def _step(name: str, entry: Data) -> Step:
    plain = name.rpartition(":")[2]
    keys = KEYS.get(plain) or next((key,) for key in OTHER_KEYS if key in entry)
    return Step(name, tuple((key, str(_member(entry, key))) for key in keys))


def _member(entry: Data, key: str) -> Any:
    return next(value for name, value in entry.items() if name.rpartition(":")[2] == key)


def _of_list(name: str, old: list[Data], new: list[Data], path: tuple[Step, ...]) -> Iterator[Edit]:
    before = {_step(name, entry): entry for entry in old}
    after = {_step(name, entry): entry for entry in new}
    is_ordered = name.rpartition(":")[2] in ORDERED
    staying = [step for step in after if step in before]
    if is_ordered and staying != [step for step in before if step in after]:
        yield from (Edit("delete", (*path, step)) for step in before)
        before, staying = {}, []
    for step in before:
        if step not in after:
            yield Edit("delete", (*path, step))
    previous: Step | None = None
    for step in after:
        if step in before:
            yield from _of_mapping(before[step], after[step], (*path, step))
        elif is_ordered:
            yield Edit("insert", (*path, step), after[step], previous)
        else:
            yield Edit("create", (*path, step), after[step])
        previous = step


def _of_values(name: str, old: list[Any], new: list[Any], path: tuple[Step, ...]) -> Iterator[Edit]:
    """The values of a leaf-list, each a node of its own."""
    for value in old:
        if value not in new:
            yield Edit("delete", (*path, Step(name, ((ITSELF, str(value)),))))
    for value in new:
        if value not in old:
            yield Edit("create", (*path, Step(name, ((ITSELF, str(value)),))), value)


def yang_patch(edits: list[Edit], name: str) -> Data:
    """Edits as a YANG patch of a device's datastore (RFC 8072 section 2)."""
    written = []
    for number, edit in enumerate(edits, 1):
        one: Data = {"edit-id": str(number), "operation": edit.operation, "target": edit.path}
        if edit.operation == "insert":
            one["where"] = "first" if edit.after is None else "after"
            if edit.after is not None:
                one["point"] = "/" + "/".join(map(str, (*edit.target[:-1], edit.after)))
        if edit.operation != "delete":
            last = edit.target[-1]
            member = last.name if ":" in last.name else f"{_module(edit.target)}:{last.name}"
            one["value"] = {member: [edit.value] if last.keys else edit.value}
        written.append(one)
    return {"ietf-yang-patch:yang-patch": {"patch-id": name, "edit": written}}


def _module(target: tuple[Step, ...]) -> str:
    """The module of the last step: its own, or that of the nearest step above that names one."""
    return next(step.name.partition(":")[0] for step in reversed(target) if ":" in step.name)


def edit_config(edits: list[Edit]) -> str:
    """Edits as the ``config`` of a NETCONF ``edit-config``, whose default operation is to merge.

    As everywhere in data, a container or an entry of a list stands there once (RFC 7950 section 7.5.7).
    """
    lines = [f'<config xmlns="{NETCONF}" xmlns:nc="{NETCONF}" xmlns:yang="{IETF}1">']
    return "\n".join([*lines, *_elements(edits, 0, "", 1), "</config>"]) + "\n"


def _elements(edits: list[Edit], depth: int, module: str, indent: int) -> Iterator[str]:
    """The lines of what targets have in common, each step from one on as an element with what lies below it."""
    by_step: dict[Step, list[Edit]] = {}
    for edit in edits:
        by_step.setdefault(edit.target[depth], []).append(edit)
    for step, below in by_step.items():
        if len(below[0].target) > depth + 1:
            own, name = split_name(step.name, module)
            space = " " * indent
            yield f"{space}<{name}{_namespace(own, module)}>"
            yield from (f"{space} {leaf_line(key, value)}" for key, value in step.keys)
            yield from _elements(below, depth + 1, own, indent + 1)
            yield f"{space}</{name}>"
        else:
            # What goes out and comes in anew is replaced, at its new place.
            yield from _target(below[-1], "replace" if len(below) > 1 else below[0].operation, module, indent)


def _target(edit: Edit, operation: Operation, module: str, indent: int) -> Iterator[str]:
    """The lines of a target; it keeps the namespace of what holds it, or names its own."""
    step = edit.target[-1]
    own, name = split_name(step.name, module)
    space = " " * indent
    attributes = f'{_namespace(own, module)} nc:operation="{"create" if operation == "insert" else operation}"'
    if edit.operation == "insert":
        attributes += _inserted(edit.after, own)
    if step.keys and step.keys[0][0] == ITSELF:
        yield f"{space}{leaf_line(name, step.keys[0][1], attributes)}"
    elif edit.operation == "delete":
        yield f"{space}<{name}{attributes}>"
        yield from (f"{space} {leaf_line(key, value)}" for key, value in step.keys)
        yield f"{space}</{name}>"
    else:
        yield from member_lines(step.name, edit.value, module, indent, attributes)


def _namespace(own: str, module: str) -> str:
    return f' xmlns="{IETF}{own}"' if own != module else ""


def _inserted(after: Step | None, module: str) -> str:
    """Where an entry comes in, as attributes (RFC 7950 section 7.8.6)."""
    if after is None:
        return ' yang:insert="first"'
    keys = "".join(f"[k:{key}='{value}']" for key, value in after.keys)
    return f' xmlns:k="{IETF}{module}" yang:insert="after" yang:key="{escape(keys, QUOTED)}"'
