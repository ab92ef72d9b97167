"""Valid JSON read the fast way: the same records and places as the strict way has, and nothing that it refuses."""

import json
import random
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import ErrorList, LoadError
from routrel.formats.grammar import Group, Integer, Later, ListOf, MapOf, Reading, Text
from routrel.formats.json_reading import SuspectError, json_reader
from routrel.formats.network_file import read_network
from routrel.formats.network_grammar import NETWORK
from routrel.formats.yaml_nodes import parse_document
from routrel.model.places import Place
from tests.core import mixed_networks, speaker_networks
from tests.examples import examples
from tests.mutations import mutated

FAULTS = sorted((Path(__file__).parents[1] / "faults" / "networks").glob("*.yaml"))
LAYOUTS = ({}, {"separators": (",", ":")}, {"indent": 2}, {"indent": "\t"})
fast = json_reader(NETWORK)


def strict(text: str):
    """The record of the strict way; None where it notes an error."""
    errors = ErrorList()
    try:
        record = NETWORK.read(parse_document(text.encode(), "network.json"), Reading("network.json", errors))
    except LoadError:
        return None
    return None if errors.errors else record


@settings(max_examples=examples(60), deadline=None)
@given(st.one_of(mixed_networks.documents(), speaker_networks.speakers()), st.sampled_from(LAYOUTS))
def test_random_networks_read_alike_in_every_layout(document, layout):
    text = json.dumps(document, **layout)
    record = strict(text)
    assert record is not None and fast(text, "network.json") == record


def test_networks_with_something_changed_read_alike_or_not_at_all():
    documents = [yaml.safe_load(path.read_text()) for path in FAULTS]
    read = 0
    for seed in range(examples(400)):
        dice = random.Random(seed)
        text = json.dumps(mutated(dice.choice(documents), dice), **dice.choice(LAYOUTS))
        record = strict(text)
        try:
            found = fast(text, "network.json")
        except SuspectError:
            continue
        assert found == record, seed
        read += 1
    assert read > 0


HEAD = '{"routrel": 1, "name": "x", "devices": {"a": {"interfaces": {"e": {'


@pytest.mark.parametrize(
    "text",
    [
        HEAD + '"mtu": 1500, "mtu": 1400}}}}}',
        HEAD + '"mtu": 1500,}}}}}',
        HEAD + '"mtu": NaN}}}}}',
        HEAD + '"mtu": 1e3}}}}}',
        HEAD + '"mtu": "1500"}}}}}',
        HEAD + '"mtu": 15' + "0" * 5000 + "}}}}}",
        HEAD + '"description": "\\ud800"}}}}}',
        HEAD + '"description": "\\u0007"}}}}}',
        HEAD + '"description": null}}}}}',
        HEAD + '"tunnel": {}}}}}}',
        HEAD + '"members": {}}}}}}',
        "[" * 5000,
        "[]",
        "{}",
        '{"routrel": 1, "devices": null}',
        '{"routrel": 1} {"routrel": 1}',
        '{"routrel": [' + "[]," * 1_000_000 + "[]]}",
    ],
    ids=lambda text: text[-30:],
)
def test_what_may_be_wrong_is_left_to_the_strict_way(text):
    with pytest.raises(SuspectError):
        fast(text, "network.json")


def test_places_are_true_behind_escapes_and_other_scripts():
    text = (
        HEAD + '"description": "a \\"quay\\" \\\\", "mtu": 1400}, "ferry\\/1": {"description": "Anl\u00e4nder '
        '\\ud83d\\ude00 {[:,",\n  "mtu": 1300}}}}}'
    )
    interfaces = read_network({"network.json": text.encode()}).devices["a"].interfaces
    assert (interfaces["e"].description, interfaces["e"].mtu) == ('a "quay" \\', 1400)
    far = interfaces["ferry/1"]
    assert (far.mtu, far.description[-5:]) == (1300, "\U0001f600 {[:,"[-5:])
    assert text[far.place.column - 1 :].startswith('"ferry')
    record = fast(text, "f")
    place = record["devices"]["a"]["interfaces"]["ferry/1"].places["mtu"]
    assert (place.line, place.column) == (2, 10)


def test_errors_of_json_are_those_of_the_strict_way():
    with pytest.raises(LoadError) as caught:
        read_network({"network.json": (HEAD + '"mtu": 15, "mut": 3}}}}}').encode()})
    first, second = caught.value.errors
    assert "mtu" not in first.message and (first.place.line, first.place.column) == (1, len(HEAD) + 8)
    assert "unknown key" in second.message and second.nearest == "mtu"


def test_a_kind_that_is_not_known_here_is_left_to_the_strict_way():
    kind = Group("thing", {"a": Later("ferries"), "b": ListOf(MapOf(Text(), Integer()))})
    assert json_reader(kind)('{"b": [{"x": 1}]}', "f")["b"].values[0].values == {"x": 1}
    with pytest.raises(SuspectError):
        json_reader(kind)('{"a": 1}', "f")


def test_a_place_in_a_long_line_is_told_with_its_column():
    assert (Place("f", 1, 7).in_brief, Place("f", 1, 900).in_brief) == ("f:1", "f:1:900")
