"""What is seen to have happened between two networks: the events make the one the other, as far as they tell."""

import copy
import json

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.timeline.seen import seen_events
from routrel.formats.changes.applying import apply_changes
from routrel.formats.events_file import events_text, read_events
from routrel.formats.sources import read_files
from routrel.model.network import Network
from tests.core.mixed_networks import documents, read
from tests.core.test_stages import changes
from tests.core.test_timeline import RING, SINCE
from tests.examples import examples


def words(before: Network, after: Network) -> list[dict]:
    found = read_events(events_text(seen_events(before, after, SINCE, "seen")).encode(), "e")[0]
    return [{**one.change.data()} for one in found]


def test_what_went_down_came_up_and_was_set_is_told():
    before = read_files({"n.yaml": RING.encode()})
    text = (
        RING.replace("name: ab,", "name: ab, enabled: false,")
        .replace("  c:\n    site: east\n", "  c:\n    site: east\n    enabled: false\n")
        .replace("e2: {addresses: [10.2.0.1/30]}", "e2: {addresses: [10.2.0.1/30], mtu: 1400, enabled: false}")
        .replace("lo: {}, e1: {cost: 10}, e2: {cost: 10}", "lo: {}, e1: {cost: 12}, e2: {cost: 10, passive: true}", 1)
    )
    after = read_files({"n.yaml": text.encode()})
    told = [
        {"disable": "link", "at": "a:e1"},
        {"set": "cost", "at": "a:e1", "to": 12},
        {"disable": "interface", "at": "a:e2"},
        {"set": "mtu", "at": "a:e2", "to": 1400},
        {"disable": "adjacency", "at": "a:e2"},
        {"disable": "device", "at": "c"},
    ]
    assert words(before, after) == told
    back = {one["at"] + one["disable"] for one in told if "disable" in one}
    assert {one["at"] + one["enable"] for one in words(after, before) if "enable" in one} == back
    assert words(before, before) == []


@given(documents(), st.lists(changes(("down", "cost", "link")), min_size=1, max_size=5))
@settings(max_examples=examples(80), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_events_make_what_was_what_is(document, steps):
    document["links"] = [{"ends": ends} for ends in document["links"]]
    later = copy.deepcopy(document)
    for change in steps:
        change(later)
    before, after = read(document), read(later)
    seen = [one.change for one in seen_events(before, after, SINCE, "")]
    files = {"n.json": json.dumps(document).encode()}
    made = apply_changes(files, before, seen)
    assert [one.state for one in made.outcomes] == ["applied"] * len(seen)
    assert seen_events(made.network, after, SINCE, "") == []
