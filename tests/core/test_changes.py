"""Changes: what each means, that their text means the same, and what is said of those that cannot be made."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.trial import Trial
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.difference import difference
from routrel.formats.changes.reading import changes_of, list_text, read_change, read_changes
from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files
from routrel.model.unchanged import without_places
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.change_lists import LAYOUTS, change_lists
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.examples import examples

SLOW = [HealthCheck.too_slow, HealthCheck.data_too_large, HealthCheck.filter_too_much]


def tables(solved: Solved) -> list:
    """All routes, but for the places of what they come from."""
    return [
        [route._replace(place=None) for route in solved.table(instance.index)] for instance in solved.topology.instances
    ]


def held_against_the_changed_text(document: dict, layout: str, data) -> None:
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(document))}
    for number, device in enumerate(document["devices"].values()):
        device["site"] = ["here", "there"][number % 2]
    document["sites"] = {"here": {}, "there": {}}
    document["links"] = [
        {**(link if isinstance(link, dict) else {"ends": link}), "risk_groups": ["duct"]} if number % 2 else link
        for number, link in enumerate(document.get("links", []))
    ]
    files = LAYOUTS[layout](document)
    network = read_files(files)
    changes = changes_of(data.draw(change_lists(document)))
    trial = Trial.of(files, solve(network), changes)
    changed = {name: text.encode() for name, text in trial.applied.changed_files.items()}
    again = read_files({**files, **changed})
    assert without_places(again) == without_places(trial.applied.network)
    cold = solve(again)
    assert tables(trial.after) == tables(cold)
    assert sorted(one.message for one in check(trial.after)) == sorted(one.message for one in check(cold))
    # What was written out means the same again, and what was off or cannot be made made no difference.
    kept = changes_of([outcome.change.data() for outcome in trial.applied.outcomes if outcome.state == "applied"])
    same = apply_changes(files, network, kept)
    assert same.changed_files == trial.applied.changed_files


@pytest.mark.parametrize("layout", LAYOUTS)
@given(document=documents(), data=st.data())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=SLOW)
def test_changes_mean_what_the_changed_text_means(layout, document, data):
    held_against_the_changed_text(document, layout, data)


@pytest.mark.parametrize("layout", ["JSON on one line", "YAML in blocks"])
@given(document=speakers(), data=st.data())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=SLOW)
def test_changes_of_bgp_mean_what_the_changed_text_means(layout, document, data):
    held_against_the_changed_text(document, layout, data)


NETWORK = """\
routrel: 1
name: small
taken_at: 2026-11-20T06:00:00Z
sites: {north: {}, south: {}}
devices:
  r1:
    site: north
    interfaces:
      lo: {addresses: [10.0.0.1/32]}
      e1: {addresses: [10.1.0.1/30], acl_in: door}  # to r2
      e2: {addresses: [10.2.0.1/30]}
    acls:
      door:
      # The first.
      - {action: accept, protocol: 89}
      - {action: drop, protocol: tcp, name: no tcp}
      - action: accept
        protocol: icmp
    routing:
      static:
      - {prefix: 192.0.2.0/24, next_hop: 10.1.0.2}
      ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 5}}}, 7: {interfaces: {e2: {}}}}}
      bgp:
        as: 64500
        neighbors:
          10.1.0.2: {as: 64501, import: any, export: any, established_at: "2026-11-19T06:00:00Z"}
          10.2.0.2: {as: 64502, import: any}
    policies:
      any: [{result: accept}]
  r2:
    site: south
    interfaces:
      e1: {addresses: [10.1.0.2/30]}
      e2: {addresses: [10.2.0.2/30]}
    routing:
      ospf: {areas: {0: {interfaces: {e1: {}}}}}
      bgp: {as: 64501, neighbors: {10.1.0.1: {as: 64500, established_at: "2026-11-18T06:00:00Z"}}}
links:
- [r1:e1, r2:e1]  # the cable
- {ends: [r1:e2, r2:e2], name: spare, risk_groups: [duct]}
"""
FILES = {"network.yaml": NETWORK.encode()}


def tried(*changes: str):
    made = [read_change(text, f"change {number}") for number, text in enumerate(changes, 1)]
    return apply_changes(FILES, read_files(FILES), made)


def lines(*changes: str) -> list[str]:
    """The lines of the text that come and go."""
    found = difference(FILES, tried(*changes).changed_files).splitlines()
    return [line for line in found if line[0] in "+-" and line[:3] not in ("+++", "---")]


def said(change: str) -> str:
    """Why a change cannot be made."""
    (outcome,) = tried(change).outcomes
    assert outcome.state == "error"
    return str(outcome.errors[0])


@pytest.mark.parametrize(
    ("change", "words", "expected"),
    [
        ("set: cost, at: r1:e1, to: 40", "cost of r1 e1: 5 → 40", "interfaces: {lo: {}, e1: {cost: 40}}}, 7:"),
        ("set: cost, at: r1:e1, to: null", "cost of r1 e1: 5 → automatic", "interfaces: {lo: {}, e1: {}}}, 7:"),
        ("set: area, at: r1:e2, to: 0.0.0.0", "area of r1 e2: 7 → 0", "e1: {cost: 5}, e2: {}}}, 7: {interfaces: {}}"),
        ("set: mtu, at: r1:e1, to: 9000", "mtu of r1 e1: 1500 → 9000", "acl_in: door, mtu: 9000}  # to r2"),
        ("set: acl_in, at: r1:e1, to: null", "ACL in of r1 e1: door → none", "e1: {addresses: [10.1.0.1/30]}  # to r2"),
        ("disable: interface, at: r1:e2", "disable interface r1:e2", "e2: {addresses: [10.2.0.1/30], enabled: false}"),
        ("disable: link, at: r2:e1", "disable link r1:e1 - r2:e1", '"r2:e1"], enabled: false}  # the cable'),
        ("disable: link, at: spare", "disable link spare", "risk_groups: [duct], enabled: false}"),
        ("disable: risk_group, at: duct", "disable the 1 link of risk group duct", "enabled: false}"),
        ("disable: site, at: south", "disable the 1 device of site south", "    enabled: false"),
        ("disable: session, at: r1 10.2.0.2", "disable the session of r1 with 10.2.0.2", "any, enabled: false}"),
        ("set: preference, at: r1, of: ospf, to: 5", "preference of ospf on r1: 110 → 5", "preferences: {ospf: 5}"),
        ("set: missing_med, at: r1, to: worst", "missing med on r1: best → worst", "decision: {missing_med: worst}"),
        ("remove: acl_entry, acl: door, at: r1, number: 1", "remove from ACL door of r1", "{action: accept, protocol: 89}"),
        ("remove: acl_entry, acl: door, at: r1, number: 3", "remove from ACL door of r1", "        protocol: icmp"),
        ("remove: link, at: spare", "no link spare", "- {ends: [r1:e2, r2:e2]"),
        ("add: range, at: r1, area: 0.0.0.7, entry: {prefix: 10.2.0.0/16}", "ranges of area 7", "ranges: [{prefix"),
        ("add: aggregate, at: r1, entry: {prefix: 10.0.0.0/8}", "BGP aggregates of r1", "aggregates: [{prefix: 10.0.0.0/8}]"),
    ],
)  # fmt: skip
def test_a_change_in_words_and_as_a_line(change, words, expected):
    applied = tried(change)
    assert applied.outcomes[0].state == "applied" and words in applied.outcomes[0].words
    assert any(expected in line for line in lines(change)), lines(change)


def test_entries_go_before_others_with_the_comments_left_where_they_are():
    assert lines("add: acl_entry, at: r1, acl: door, before: 1, entry: {action: drop, protocol: udp}") == [
        "+      - {action: drop, protocol: udp}"
    ]
    assert lines("move: acl_entry, at: r1, acl: door, number: 3, before: 2") == [
        "+      - {action: accept, protocol: icmp}",
        "-      - action: accept",
        "-        protocol: icmp",
    ]
    assert lines("change: acl_entry, at: r1, acl: door, number: 2, entry: {action: accept}") == [
        "-      - {action: drop, protocol: tcp, name: no tcp}",
        "+      - {action: accept}",
    ]


def test_an_entry_that_was_written_out_is_found_wherever_it_stands():
    first = "add: acl_entry, at: r1, acl: door, before: 1, entry: {action: drop, protocol: udp}"
    second = "remove: acl_entry, at: r1, acl: door, number: 3"
    written = tried(first, second).outcomes[1].change.data()
    assert written["was"] == {"action": "drop", "protocol": "tcp", "name": "no tcp"} and "number" not in written
    (alone,) = apply_changes(FILES, read_files(FILES), changes_of([written])).outcomes
    assert alone.state == "applied" and "no tcp" in alone.words
    twice = apply_changes(FILES, read_files(FILES), changes_of([written, written])).outcomes[1]
    assert "no such entry is in ACL door of r1" in str(twice.errors[0])


@pytest.mark.parametrize("change", ["number: 3, before: 1", "number: 2, before: 4", "number: 4, before: 1"])
def test_of_entries_that_are_the_same_the_number_still_tells_which(change):
    accept, drop = "{result: accept}", "{match: {protocol: rip}, result: reject}"
    text = f"routrel: 1\nname: n\ndevices: {{r1: {{policies: {{p: [{accept}, {drop}, {accept}, {accept}]}}}}}}\n"
    files = {"network.yaml": text.encode()}
    made = [read_change(f"move: statement, at: r1, policy: p, {change}", "a change")]
    first = apply_changes(files, read_files(files), made)
    assert first.outcomes[0].state == "applied"
    again = apply_changes(files, read_files(files), changes_of([first.outcomes[0].change.data()]))
    assert again.changed_files == first.changed_files
    twins = {"move": "statement", "at": "r1", "policy": "p", "number": 2, "before": {"result": "accept"}}
    (outcome,) = apply_changes(files, read_files(files), changes_of([twins])).outcomes
    assert "this entry is 3 times in policy p of r1" in str(outcome.errors[0])


def test_a_policy_that_sets_an_attribute_again_is_said():
    text = NETWORK.replace("any: [{result: accept}]", "any: [{set: {weight: 1}, result: accept}]").encode()
    files = {"network.yaml": text}
    made = [read_change("set: weight, at: r1 10.1.0.2, to: 9", "a change")]
    (outcome,) = apply_changes(files, read_files(files), made).outcomes
    assert outcome.words.endswith("(set again by what is statement 1 of its policy now, where that matches)")


def test_attributes_of_a_session_come_first_in_its_own_policy_and_a_shared_one_is_copied():
    assert lines("set: local_preference, at: r1 10.1.0.2, to: 200, for: 192.0.2.0/24") == [
        '-          10.1.0.2: {as: 64501, import: any, export: any, established_at: "2026-11-19T06:00:00Z"}',
        '+          10.1.0.2: {as: 64501, import: import-10.1.0.2, export: any, established_at: "2026-11-19T06:00:00Z"}',
        "+      import-10.1.0.2: [{match: {prefixes: [192.0.2.0/24]}, set: {local_preference: 200}, result: continue}, "
        "{result: accept}]",
    ]
    two = "set: weight, at: r1 10.1.0.2, to: 1", "set: weight, at: r1 10.1.0.2, to: 2"
    assert "[{set: {weight: 2}, result: continue}, {result: accept}]" in "".join(lines(*two))
    assert sum(line.startswith("+      import-") for line in lines(*two)) == 1
    prepended = lines("set: prepend, at: r1 10.2.0.2, to: 2")
    assert "export: export-10.2.0.2" in prepended[1] and "as_path_prepend: {as: 64500, times: 2}" in prepended[2]


def test_a_restarted_session_is_younger_than_all_others_at_both_ends():
    found = lines("restart: session, at: r1 10.1.0.2")
    assert len(found) == 4 and all('"2026-11-20T06:01:00Z"' in line for line in found if line.startswith("+"))


def test_the_text_of_a_device_is_read_as_it_is_typed():
    text = NETWORK[NETWORK.index("    site: south") : NETWORK.index("links:")]
    good = {"edit": "device", "at": "r2", "text": text.replace("10.1.0.2/30", "10.1.0.2/29")}
    bad = {"edit": "device", "at": "r2", "text": text.replace("10.1.0.2/30", "10.1.0.300")}
    away = {"edit": "device", "at": "r2", "text": text.replace("      e2:", "      e3:")}
    outcomes = apply_changes(FILES, read_files(FILES), changes_of([bad, away, good])).outcomes
    assert [outcome.state for outcome in outcomes] == ["error", "error", "applied"]
    place = outcomes[0].errors[0].place
    assert (place.file, place.line) == ("trial/r2.yaml", 3)
    assert "a link ends at r2:e2" in str(outcomes[1].errors[0])


def test_a_whole_file_is_read_as_it_is_typed_and_other_changes_stay():
    cost = {"set": "cost", "at": "r1:e1", "to": 9}
    network = read_files(FILES)
    text = difference_applied(cost).replace("name: small", "name: smaller")
    applied = apply_changes(
        FILES, network, changes_of([cost, {"edit": "file", "at": "network.yaml", "text": text}, {"disable": "device", "at": "r2"}])
    )  # fmt: skip
    assert [outcome.state for outcome in applied.outcomes] == ["applied"] * 3
    assert applied.network.name == "smaller" and not applied.network.devices["r2"].enabled
    assert "cost: 9" in applied.changed_files["network.yaml"]


def difference_applied(*changes: dict) -> str:
    return apply_changes(FILES, read_files(FILES), changes_of(changes)).changed_files["network.yaml"]


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ("set: cost, at: r3:e1, to: 1", "there is no device of this name; found 'r3'; allowed: r1, r2"),
        ("set: cost, at: r1:e9, to: 1", "there is no interface on r1 of this name; found 'e9'; allowed: e1, e2, lo"),
        ("set: cost, at: r2:e2, to: 1", "r2:e2 speaks no OSPF"),
        ("set: cost, at: r1:e1, to: 70000", "the number is out of range; found '70000'; allowed: an integer from 0"),
        ("set: metric, at: r1:e1, to: 1", "r1:e1 speaks none of isis, rip"),
        ("set: acl_in, at: r1:e2, to: gate", "there is no ACL of this name; found 'gate'; allowed: door"),
        ("set: preference, at: r1, to: 1", "a preference is of a protocol or for a prefix"),
        ("set: weight, at: r1 10.9.9.9, to: 1", "there is no BGP neighbour of r1 of this name"),
        ("disable: link, at: spar", "there is no link of this name; found 'spar'; allowed: spare; did you mean spare?"),
        ("disable: link, at: r1:lo", "no link of the text has this end"),
        ("disable: site, at: east", "there is no site of this name; found 'east'; allowed: north, south"),
        ("disable: risk_group, at: mast", "there is no risk group of this name; found 'mast'; allowed: duct"),
        ("remove: static, at: r1, number: 2", "no entry of this number is in the static routes of r1; found '2'"),
        ("remove: static, at: r1", "it is not said which entry is meant"),
        ("add: static, at: r1, vrf: red, entry: {prefix: 10.0.0.0/8}", "there is no VRF on r1 of this name"),
        ("add: redistribution, at: r1, into: rip, entry: {from: static}", "there is no protocol on r1 of this name"),
        ("add: acl_entry, at: r1, acl: door, entry: {action: pass}", "this word is not known here; found 'pass'"),
        ("add: link, at: r1:e1, to: r1:lo", "r1:e1 is cabled to r2:e1 already"),
        ("add: link, at: r1:lo, to: r2:e1", "a loopback is on no link"),
        ("add: link, at: r1:e1, to: r1:e1", "the two ends are one interface"),
        ("add: link, at: r1:e1, to: []", "a link has another end; found '[]'; allowed: to: an interface"),
        ("add: link, at: r1:e7, to: r2:e1", "there is no interface on r1 of this name; found 'e7'"),
        ("remove: link, at: r1:lo", "no link of the text has this end"),
        ("edit: file, at: other.yaml, text: x", "there is no file of this name; found 'other.yaml'"),
    ],
)  # fmt: skip
def test_a_change_that_cannot_be_made_says_why_at_its_line(change, message):
    assert message in said(change) and said(change).startswith("change 1:1:")


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("- {sett: cost}", "changes:1:3: a change says one thing that is done; found 'sett'; allowed: one of set, enable"),
        ("- {set: costs, at: a}", "this cannot be set; found 'costs'; allowed: cost, area"),
        ("- {set: cost, at: a, too: 1}", "unknown key of set cost; found 'too'; allowed: set, at, off, to, instance; did"),
        ("- {set: cost, to: 1}", "set cost lacks the key 'at'; allowed: an interface, device:interface"),
        ("- {set: cost, at: [1], to: 1}", "text is expected here; found a list"),
        ("- {set: cost, at: a, to: 1, off: 2}", "a switch is expected here; found '2'; allowed: true or false"),
        ("set: cost", "unknown key beside the changes; found 'set'"),
        ("- 7", "a change must be a mapping; found '7'"),
    ],
)  # fmt: skip
def test_a_list_that_cannot_be_read_says_where(text, message):
    with pytest.raises(LoadError) as refused:
        read_changes(text.encode(), "changes")
    assert message in str(refused.value)


def test_what_does_nothing_and_what_is_changed_again_is_said():
    cost, other = "set: cost, at: r1:e1, to: 5", "set: cost, at: r1:e1, to: 6"
    outcomes = tried(cost, other, other.replace("6", "7"), "enable: device, at: r1").outcomes
    assert [outcome.state for outcome in outcomes] == ["nothing", "applied", "applied", "nothing"]
    assert outcomes[2].remark == "changes again what change 2 changed"


def test_a_list_is_written_as_it_is_read():
    changes = read_changes(b"name: n\nchanges:\n- {set: cost, at: 'r1:e1', to: 6, off: true}\n", "x")
    assert read_changes(list_text(changes, "n").encode(), "y")[0].data() == changes[0].data()


def test_what_stays_is_the_same_object_with_its_place():
    network = read_files(FILES)
    applied = tried("set: cost, at: r1:e1, to: 9").network
    before, after = (
        network.devices["r1"],
        apply_changes(FILES, network, [read_change("set: mtu, at: r1:e2, to: 1400", "c")]),
    )
    changed = after.network.devices["r1"]
    assert changed.acls is before.acls and changed.routing is before.routing and applied.devices.keys() == {"r1", "r2"}
    assert changed.interfaces["e1"] is before.interfaces["e1"]
    assert after.network.devices["r2"] is network.devices["r2"]
    place = changed.interfaces["e2"].place
    assert place.file == "trial/r1.yaml" and b"mtu: 1400" in after.files[place.file].split(b"\n")[place.line - 1]


def test_a_text_with_anchors_is_not_changed_by_parts():
    text = NETWORK.replace("e2: {addresses: [10.2.0.2/30]}", "e2: &same {addresses: [10.2.0.2/30]}")
    files = {"network.yaml": text.encode()}
    (outcome,) = apply_changes(files, read_files(files), [read_change("set: mtu, at: r2:e2, to: 1400", "c")]).outcomes
    assert "an anchor or alias stands in it" in str(outcome.errors[0])


def test_what_failed_half_way_leaves_nothing_behind():
    bad = {"edit": "device", "at": "r1", "text": "interfaces: {e1: {}}\n"}
    cost = {"set": "cost", "at": "r1:e1", "to": 9}
    outcomes = apply_changes(FILES, read_files(FILES), changes_of([bad, cost])).outcomes
    assert [outcome.state for outcome in outcomes] == ["error", "applied"] and outcomes[1].remark == ""


def test_expectations_are_added_changed_and_removed_in_a_file_of_their_own():
    def texts(*changes: str) -> dict[str, str]:
        return tried(*changes).changed_files

    first = "add: expectation, at: web, entry: {from: r1, to: r2}"
    assert texts(first) == {"expectations.yaml": "- {name: web, from: r1, to: r2}\n"}
    second = "add: expectation, at: mail, entry: {from: r1, to: r2, on: tcp/25}"
    assert texts(first, second)["expectations.yaml"].splitlines()[1] == "- {name: mail, from: r1, to: r2, on: tcp/25}"
    changed = texts(first, "change: expectation, at: web, entry: {from: r2, to: r1}")
    assert changed == {"expectations.yaml": "- {name: web, from: r2, to: r1}\n"}
    assert texts(first, "remove: expectation, at: web") == {"expectations.yaml": ""}
    trial = Trial.of(FILES, solve(read_files(FILES)), [read_change(first, "a change")])
    assert [one.name for one in trial.after.network.expectations] == ["web"]
    assert trial.after.convergence is trial.before.convergence
    assert "+- {name: web, from: r1, to: r2}" in trial.difference().splitlines()
    assert said("add: expectation, at: web, entry: {from: r1}").endswith("allowed: text or a list, each text")
    assert "there is no expectation of this name" in said("remove: expectation, at: web")


def test_a_link_that_is_added_joins_what_its_ends_are_on():
    loose = {"network.yaml": NETWORK[: NETWORK.index("links:")].encode()}
    made = [
        read_change(text, "change")
        for text in ("add: link, at: r1:e2, to: r2:e2, name: duct", "remove: link, at: duct")
    ]
    first = apply_changes(loose, read_files(loose), made[:1])
    assert [[str(end) for end in link.ends] for link in first.network.links] == [["r1:e2", "r2:e2"]]
    assert "links:" in first.changed_files["network.yaml"]
    assert apply_changes(loose, read_files(loose), made).network.links == ()


def test_a_link_of_a_folder_of_devices_stands_in_a_file_of_the_network():
    table = "prefix,interface,protocol\n10.0.0.0/30,e,connected\n10.0.0.{}/32,e,local\n"
    files = {f"{name}.csv": table.format(host).encode() for host, name in enumerate("ab", 1)}
    network = read_files(files)
    applied = apply_changes(files, network, [read_change("add: link, at: a:e, to: b:e", "change")])
    assert applied.outcomes[0].state == "applied"
    assert applied.changed_files == {"network.yaml": 'routrel: 1\nname: network\nlinks:\n- {ends: ["a:e", "b:e"]}\n'}
    again = read_files({**files, "network.yaml": applied.changed_files["network.yaml"].encode()})
    assert again.links == applied.network.links and len(again.links) == 1


def test_a_link_is_added_to_a_text_that_is_one_flow_mapping():
    files = {"n.yaml": b"{routrel: 1, name: n, devices: {a: {interfaces: {e: {}}}, b: {interfaces: {e: {}}}}}"}
    applied = apply_changes(files, read_files(files), [read_change("add: link, at: a:e, to: b:e", "change")])
    assert applied.outcomes[0].state == "applied"
    assert len(read_files({"n.yaml": applied.changed_files["n.yaml"].encode()}).links) == 1


def test_a_link_of_json_that_is_a_list_is_switched_off_and_on():
    document = {
        "routrel": 1,
        "name": "n",
        "devices": {name: {"kind": "router", "interfaces": {"e1": {}}} for name in ("a", "b")},
        "links": [["a:e1", "b:e1"]],
    }
    files = {"network.json": json.dumps(document).encode()}
    off = apply_changes(files, read_files(files), changes_of([{"disable": "link", "at": "a:e1"}]))
    assert json.loads(off.changed_files["network.json"])["links"] == [{"ends": ["a:e1", "b:e1"], "enabled": False}]
