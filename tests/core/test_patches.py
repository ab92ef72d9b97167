"""Patches of documents: done to the one they make the other, forwards and back, in both encodings."""

import json
import re
from copy import deepcopy
from typing import Any
from urllib.parse import unquote
from xml.etree import ElementTree

from hypothesis import given, settings

from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.models.patching import (
    EMPTY,
    ITSELF,
    KEYS,
    OTHER_KEYS,
    Edit,
    edit_config,
    edits_between,
    yang_patch,
)
from routrel.formats.models.writing import document_of
from routrel.formats.models.xml_statements import read_xml
from routrel.formats.sources import read_files
from routrel.formats.written_patch import patches
from routrel.solving import solve
from tests.core import mixed_networks
from tests.core.model_documents import files_of
from tests.core.test_model_documents import PAIR
from tests.examples import examples


def plain(name: str) -> str:
    return name.rpartition(":")[2]


def matches(entry: Any, values: list[str], keys: list[str]) -> bool:
    if not isinstance(entry, dict):
        return [str(entry)] == values
    return [str(next(v for k, v in entry.items() if plain(k) == key)) for key in keys] == values


def done(document: dict[str, Any], edits: list[Edit]) -> dict[str, Any]:
    """The slow reference: each edit done by RFC 8072's words, on plain data."""
    document = deepcopy(document)
    for edit in edits:
        here: Any = document
        for step in edit.target[:-1]:
            if step.keys:
                here = next(
                    e for e in here[step.name] if matches(e, [v for _, v in step.keys], [k for k, _ in step.keys])
                )
            else:
                here = here.setdefault(step.name, {})
        last = edit.target[-1]
        if not last.keys:
            assert (last.name in here) == (edit.operation in ("delete", "replace"))
            here.pop(last.name, None)
            if edit.operation != "delete":
                here[last.name] = edit.value
            continue
        entries = here.setdefault(last.name, [])
        names, values = [k for k, _ in last.keys], [v for _, v in last.keys]
        at = [n for n, entry in enumerate(entries) if matches(entry, values, names)]
        assert bool(at) == (edit.operation == "delete")
        if edit.operation == "delete":
            entries.pop(at[0])
            if not entries:
                here.pop(last.name)
        elif edit.operation == "insert" and edit.after is not None:
            after = [v for _, v in edit.after.keys]
            entries.insert(1 + next(n for n, e in enumerate(entries) if matches(e, after, names)), edit.value)
        else:
            entries.insert(0 if edit.operation == "insert" else len(entries), edit.value)
    return document


def normal(value: Any, name: str = "") -> Any:
    """Data with the lists that have no order sorted, and nothing that is empty."""
    if isinstance(value, dict):
        inner = {key: normal(one, plain(key)) for key, one in value.items() if not key.startswith("routrel-")}
        return {key: one for key, one in inner.items() if one not in ({}, [])}
    if isinstance(value, list):
        items = [normal(one) for one in value]
        return items if name in ("ace", "statement") else sorted(items, key=lambda one: json.dumps(one, sort_keys=True))
    return value


def assert_makes(old: dict[str, Any], new: dict[str, Any]) -> None:
    edits = edits_between(old, new)
    assert normal(done(old, edits)) == normal(new)
    for one in yang_patch(edits, "x")["ietf-yang-patch:yang-patch"]["edit"]:
        assert re.match(r"/[a-z-]+:", one["target"]) and ("value" in one) == (one["operation"] != "delete")
    text = edit_config(edits)
    read_xml(text.encode(), "x.xml")  # well-formed, all in known namespaces
    targets = [("/".join(["", *map(said, edit.target)])) for edit in edits]
    assert edited(ElementTree.fromstring(text)) == set(targets)


OPERATION = "{urn:ietf:params:xml:ns:netconf:base:1.0}operation"


def said(step) -> str:
    """A step of a target without its module and the names of its keys."""
    return "=".join([plain(step.name), *(value for _, value in step.keys)])


def edited(element: ElementTree.Element, path: str = "") -> set[str]:
    """The targets that an ``edit-config`` names, each of which stands there once."""
    found, seen = set[str](), set[str]()
    for child in element:
        name = child.tag.rpartition("}")[2]
        leaves = {one.tag.rpartition("}")[2]: str(one.text) for one in child if not len(one)}
        keys = KEYS.get(name) or next(([key] for key in OTHER_KEYS if key in leaves), [])
        own = "=".join([f"{path}/{name}", *(leaves[key] for key in keys if key in leaves)])
        assert own not in seen, own
        seen.add(own)
        if OPERATION in child.attrib:
            found.add(own)
        elif len(child):
            found |= edited(child, own)
    return found


@settings(max_examples=examples(100), deadline=None)
@given(mixed_networks.documents(), mixed_networks.documents())
def test_a_patch_makes_one_device_of_another(one, other):
    first, second = (document_of("r0", document["devices"]["r0"]) for document in (one, other))
    assert_makes(first, second)
    assert_makes(second, first)
    assert edits_between(first, first) == []


ACL = {"acls": {"a": [{"action": "accept", "name": name, "protocol": "tcp"} for name in ("one", "two", "three")]}}


def test_entries_come_in_at_their_place():
    old = document_of("r", ACL)
    new = deepcopy(ACL)
    new["acls"]["a"].insert(1, {"action": "drop", "name": "new"})
    (edit,) = edits_between(old, document_of("r", new))
    assert edit.operation == "insert" and str(edit.after) == "ace=one"
    (written,) = yang_patch([edit], "p")["ietf-yang-patch:yang-patch"]["edit"]
    assert written["where"] == "after"
    assert written["point"] == "/ietf-access-control-list:acls/acl=a/aces/ace=one"
    text = edit_config([edit])
    assert 'yang:insert="after" yang:key="[k:name=\'one\']"' in text
    ElementTree.fromstring(text)


def test_entries_in_another_order_go_out_and_in_anew():
    new = {"acls": {"a": [ACL["acls"]["a"][number] for number in (2, 0, 1)]}}
    assert_makes(document_of("r", ACL), document_of("r", new))


def test_what_is_edited_below_one_interface_stands_in_it():
    """RFC 7950 section 7.5.7: a container is one element; section 7.8.6: an entry that moves is replaced."""
    old = document_of("r", ACL | {"interfaces": {"e": {"addresses": ["192.0.2.1/24"], "mtu": 1400}}})
    new = document_of("r", ACL | {"interfaces": {"e": {"addresses": ["192.0.2.2/24"], "mtu": 1500}}})
    text = edit_config(edits_between(old, new))
    assert text.count("<interface>") == text.count("<name>e</name>") == text.count("<ipv4") == 1
    moved = {"acls": {"a": ACL["acls"]["a"][::-1]}}
    text = edit_config(edits_between(document_of("r", ACL), document_of("r", moved)))
    assert text.count("<ace ") == text.count('nc:operation="replace"') == text.count("yang:insert=") == 3


def test_keys_are_named_as_restconf_writes_them():
    old = {"interfaces": {"ge-0/0/1": {"addresses": ["192.0.2.1/24"]}}}
    new = {"interfaces": {"ge-0/0/1": {"addresses": ["192.0.2.1/24"], "description": "a & b"}}}
    (edit,) = edits_between(document_of("r", old), document_of("r", new))
    assert edit.path == "/ietf-interfaces:interfaces/interface=ge-0%2F0%2F1/description"
    assert unquote(edit.path).endswith("interface=ge-0/0/1/description")
    assert '<description nc:operation="create">a &amp; b</description>' in edit_config([edit])
    assert EMPTY == [None] and ITSELF == "."


# Trials


def patched(*changes: str) -> list:
    files = files_of(PAIR)
    solved = solve(read_files(files))
    trial = Trial.of(files, solved, [read_change(text, "change") for text in changes])
    return patches(trial.files, trial.before.network, trial.applied.files, trial.after.network)


def test_a_trial_is_a_patch_of_each_device_it_changes_and_its_reverse():
    (patch,) = patched("set: cost, at: b:e2, to: 100")
    (edit,) = patch.edits
    assert (patch.device, edit.operation, edit.value, patch.is_whole) == ("b", "replace", 100, True)
    assert edit.path.endswith("/ietf-ospf:ospf/areas/area=0.0.0.0/interfaces/interface=e2/cost")
    assert json.loads(patch.yang_patch(back=True))["ietf-yang-patch:yang-patch"]["edit"][0]["value"] == {
        "ietf-ospf:cost": 7
    }
    assert '<cost nc:operation="replace">100</cost>' in patch.edit_config()


def test_what_a_device_only_tells_is_no_part_of_a_patch():
    """RFC 8343 section 5: speed and phys-address are config false."""
    (patch,) = patched("set: bandwidth, at: b:e2, to: 1G")
    assert (patch.edits, patch.is_whole) == ((), False)
    (patch,) = patched("set: bandwidth, at: b:e2, to: 1G", "set: cost, at: b:e2, to: 100")
    assert ([edit.value for edit in patch.edits], patch.is_whole) == ([100], False)


def test_what_no_published_model_says_is_told():
    (patch,) = patched("add: redistribution, at: b, into: ospf, entry: {from: static}")
    assert (patch.edits, patch.is_whole) == ((), False)
