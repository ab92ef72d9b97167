"""Capture folders: what is read, and what is said of the rest."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files
from routrel.model.devices import Device
from routrel.model.filters import HeaderMatch
from routrel.model.network import Network

KEYS = (
    *(
        "ifname",
        "flags",
        "mtu",
        "addr_info",
        "local",
        "prefixlen",
        "scope",
        "linkinfo",
        "info_kind",
        "info_data",
        "id",
        "link",
    ),
    *(
        "dst",
        "dev",
        "gateway",
        "type",
        "protocol",
        "table",
        "metric",
        "nexthops",
        "priority",
        "src",
        "srclen",
        "iif",
        "action",
    ),
    *(
        "lladdr",
        "state",
        "interface",
        "device",
        "remote_interface",
        "chain",
        "rule",
        "expr",
        "match",
        "left",
        "right",
        "op",
    ),
    *(
        "hook",
        "prio",
        "policy",
        "family",
        "name",
        "payload",
        "field",
        "meta",
        "key",
        "set",
        "range",
        "jump",
        "accept",
        "drop",
    ),
)


def interface(name: str, *addresses: str, **more) -> dict:
    info = [
        {"family": "inet", "local": a.split("/")[0], "prefixlen": int(a.split("/")[1]), "scope": "global"}
        for a in addresses
    ]
    return {"ifname": name, "flags": ["UP", "LOWER_UP"], "mtu": 1500, "link_type": "ether", "addr_info": info, **more}


ADDRESSES = [
    {"ifname": "lo", "flags": ["LOOPBACK", "UP", "LOWER_UP"], "mtu": 65536, "addr_info": []},
    interface("e1", "10.0.1.1/24", address="02:00:00:00:00:01"),
    interface("e2", "10.0.2.1/24"),
]
ROUTES = [{"dst": "10.0.1.0/24", "dev": "e1", "protocol": "kernel", "scope": "link", "flags": []}]


def capture(**files) -> Network:
    """A capture of one device r; files by their name without .json."""
    texts = {"addresses": ADDRESSES, "routes": ROUTES, **files}
    return read_files({f"r/{name}.json": json.dumps(content).encode() for name, content in texts.items()})


def device(**files) -> Device:
    return capture(**files).devices["r"]


def observed(*routes: dict) -> list[tuple]:
    return [(str(r.prefix), r.protocol, r.action, len(r.next_hops)) for r in device(routes=list(routes)).observed]


def test_rows_get_the_protocol_of_whoever_made_them():
    rows = observed(
        {"dst": "10.0.1.0/24", "dev": "e1", "protocol": "kernel", "scope": "link"},
        {"type": "local", "dst": "10.0.1.1", "dev": "e1", "table": "local", "protocol": "kernel"},
        {"type": "broadcast", "dst": "10.0.1.255", "dev": "e1", "table": "local", "protocol": "kernel"},
        {"type": "local", "dst": "127.0.0.0/8", "dev": "lo", "table": "local", "protocol": "kernel"},
        {"dst": "default", "gateway": "10.0.1.2", "dev": "e1"},
        {"dst": "10.3.0.0/16", "gateway": "10.0.1.2", "dev": "e1", "protocol": "static"},
        {"dst": "10.4.0.0/16", "gateway": "10.0.1.2", "dev": "e1", "protocol": "ospf", "metric": 20},
        {"dst": "10.5.0.0/16", "protocol": "zebra", "nexthops": [{"gateway": "10.0.1.2", "dev": "e1"}, {"dev": "e2"}]},
        {"type": "blackhole", "dst": "10.6.0.0/16", "protocol": "static"},
        {"type": "unreachable", "dst": "10.7.0.9"},
    )
    assert rows == [
        ("10.0.1.0/24", "connected", "forward", 1),
        ("10.0.1.1/32", "local", "forward", 1),
        ("0.0.0.0/0", "static", "forward", 1),
        ("10.3.0.0/16", "static", "forward", 1),
        ("10.4.0.0/16", "ospf", "forward", 1),
        ("10.5.0.0/16", "observed", "forward", 2),
        ("10.6.0.0/16", "static", "discard", 0),
        ("10.7.0.9/32", "static", "reject", 0),
    ]


def test_a_device_with_one_interface_is_a_host():
    assert device().kind == "router"
    assert device(addresses=ADDRESSES[:2]).kind == "host"


def test_what_is_down_is_disabled_and_vlans_have_parents():
    interfaces = device(
        addresses=[
            *ADDRESSES,
            interface("e3", flags=["UP", "NO-CARRIER"]),
            interface("e4", flags=[]),
            interface("e1.7", "10.0.7.1/24", link="e1", linkinfo={"info_kind": "vlan", "info_data": {"id": 7}}),
        ]
    ).interfaces
    assert [interfaces[name].enabled for name in ("e1", "e3", "e4")] == [True, False, False]
    assert (interfaces["e1.7"].parent, interfaces["e1.7"].vlan) == ("e1", 7)


def test_what_cannot_be_represented_is_a_gap_with_its_place():
    gaps = device(
        addresses=[*ADDRESSES, interface("br0", linkinfo={"info_kind": "bridge"})],
        routes=[*ROUTES, {"type": "throw", "dst": "10.9.0.0/16"}],
        rules=[{"priority": 100, "src": "all", "fwmark": "0x1", "table": "100"}],
    ).gaps
    texts = [gap.message for gap in gaps]
    assert len(texts) == 3
    assert "br0 is a bridge" in texts[0]
    assert "10.9.0.0/16 of type throw" in texts[1]
    assert "rule 100 is not represented: fwmark" in texts[2]
    assert all(gap.place.line == 1 and gap.place.column > 1 for gap in gaps[:2])


RULES = [
    {"priority": 0, "src": "all", "table": "local"},
    {"priority": 900, "src": "10.0.1.0", "srclen": 24, "iif": "e1", "ipproto": "tcp", "dport": 25, "action": "blackhole"},
    {"priority": 800, "src": "all", "dst": "10.9.0.0", "dstlen": 16, "iif": "e1", "dport_start": 1, "dport_end": 9, "ipproto": "udp", "table": "100"},
    {"priority": 950, "src": "all", "iif": "e1", "table": "main"},
    {"priority": 32766, "src": "all", "table": "main"},
]  # fmt: skip


def test_rules_steer_in_the_order_of_their_priority():
    routes = [*ROUTES, {"dst": "default", "gateway": "10.0.2.9", "dev": "e2", "table": "100"}]
    made = device(routes=routes, rules=RULES)
    assert made.interfaces["e1"].forwarding_policy == "rules-e1"
    assert made.interfaces["e2"].forwarding_policy is None
    entries = made.forwarding_policies["rules-e1"].entries
    assert [entry.action for entry in entries] == ["forward", "discard", "table"]
    assert [str(hop) for hop in entries[0].next_hops] == ["10.0.2.9"]
    assert str(entries[0].match.destination) == "10.9.0.0/16"
    assert str(entries[0].match.destination_ports[0]) == "1-9"


def rule(chain: str, *expressions: dict, comment: str = "") -> dict:
    return {"rule": {"family": "inet", "table": "f", "chain": chain, "expr": list(expressions), "comment": comment}}


def base(name: str, hook: str, policy: str = "accept", **more) -> dict:
    chain = {"family": "inet", "table": "f", "name": name, "type": "filter", "hook": hook, "prio": 0, "policy": policy}
    return {"chain": {**chain, **more}}


def meta(key: str, right) -> dict:
    return {"match": {"op": "==", "left": {"meta": {"key": key}}, "right": right}}


def payload(protocol: str, field: str, right, op: str = "==") -> dict:
    return {"match": {"op": op, "left": {"payload": {"protocol": protocol, "field": field}}, "right": right}}


ACCEPT, DROP = {"accept": None}, {"drop": None}
ESTABLISHED = {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}


def filters(*items: dict) -> Device:
    return device(filters={"nftables": list(items)})


def both_ways(*rules: tuple) -> list[dict]:
    """The same rules in the hooks input and forward."""
    return [base("i", "input"), base("f", "forward"), *(rule(c, *r) for c in ("i", "f") for r in rules)]


def test_a_rule_for_one_interface_becomes_its_acl_with_the_closing_accept():
    made = filters(*both_ways((meta("iifname", "e1"), payload("tcp", "dport", 22), DROP)))
    assert made.interfaces["e2"].acl_in is None
    acl = made.acls[made.interfaces["e1"].acl_in]
    assert acl.entries[0].action == "drop"
    assert acl.entries[-1].match == HeaderMatch()
    assert acl.entries[-1].action == "accept"


def test_sets_prefixes_and_ranges_are_read():
    made = filters(
        *both_ways(
            (
                payload("ip", "saddr", {"set": [{"prefix": {"addr": "10.1.0.0", "len": 16}}, "10.2.0.1"]}),
                payload("udp", "dport", {"set": [53, {"range": [5000, 5010]}]}),
                DROP,
            )
        )
    )
    acl = made.acls[made.interfaces["e1"].acl_in]
    assert [str(entry.match.source) for entry in acl.entries[:2]] == ["10.1.0.0/16", "10.2.0.1/32"]
    assert [str(ports) for ports in acl.entries[0].match.destination_ports] == ["53", "5000-5010"]


def test_established_traffic_makes_accepting_entries_stateful():
    made = filters(*both_ways((ESTABLISHED, ACCEPT), (payload("tcp", "dport", 443), ACCEPT), (DROP,)))
    acl = made.acls[made.interfaces["e1"].acl_in]
    assert [(entry.action, entry.stateful) for entry in acl.entries] == [("accept", True), ("drop", False)]


def test_where_input_and_forward_differ_the_devices_own_addresses_come_first():
    made = filters(base("i", "input", "drop"), rule("i", payload("tcp", "dport", 22), ACCEPT), base("f", "forward"))
    acl = made.acls[made.interfaces["e1"].acl_in]
    texts = [(entry.action, str(entry.match.destination)) for entry in acl.entries]
    assert texts == [
        ("accept", "10.0.1.1/32"),
        ("accept", "10.0.2.1/32"),
        ("drop", "10.0.1.1/32"),
        ("drop", "10.0.2.1/32"),
        ("accept", "None"),
    ]


def test_filters_on_the_way_out_are_acl_out():
    made = filters(
        base("f", "forward"),
        rule("f", meta("oifname", "e2"), DROP),
        base("o", "output"),
        rule("o", meta("oifname", "e2"), DROP),
    )
    assert made.interfaces["e2"].acl_out is not None
    assert made.interfaces["e1"].acl_out is None
    assert made.interfaces["e2"].acl_in is None


@pytest.mark.parametrize(
    ("expressions", "said"),
    [
        ((payload("ip", "saddr", "10.0.0.1", op="!="), DROP), "the comparison !="),
        (({"limit": {"rate": 5}}, ACCEPT), "a rate limit"),
        (({"dnat": {"addr": "10.0.0.1"}},), "the expression dnat"),
        ((payload("tcp", "flags", "syn"), DROP), "a match on tcp flags"),
        ((payload("ip", "saddr", {"range": ["10.0.0.1", "10.0.0.9"]}), DROP), "a range of addresses"),
        ((payload("tcp", "dport", "ssh"), DROP), "it cannot be read"),
        ((meta("iifname", "e1"), meta("oifname", "e2"), DROP), "a pair of interfaces"),
        ((payload("tcp", "dport", 5), {"return": None}), "conditional return"),
        ((payload("tcp", "dport", 5), {"jump": {"target": "f"}}), "under a condition"),
    ],
)
def test_rules_that_no_acl_can_say_are_gaps(expressions, said):
    gaps = filters(base("f", "forward"), rule("f", *expressions)).gaps
    assert any(said in gap.message for gap in gaps), gaps


def test_other_hooks_and_kinds_of_chain_are_gaps():
    texts = [gap.message for gap in filters(base("p", "prerouting"), base("n", "postrouting", type="nat")).gaps]
    assert len(texts) == 2
    nested = filters(base("i", "input"), {"set": {"name": "x"}}).gaps
    assert "named set" in nested[0].message


def test_cabling_makes_links_and_names_what_was_not_captured():
    files = {
        "r/addresses.json": ADDRESSES, "r/routes.json": ROUTES,
        "r/lldp.json": [{"interface": "e1", "device": "s", "remote_interface": "e1"}, {"interface": "e2", "device": "x", "remote_interface": "p"}],
        "s/addresses.json": [interface("e1", "10.0.1.2/24")], "s/routes.json": [],
    }  # fmt: skip
    network = read_files({name: json.dumps(content).encode() for name, content in files.items()})
    assert [[str(end) for end in link.ends] for link in network.links] == [["r:e1", "s:e1"]]
    assert "cabled to x:p, which was not captured" in network.devices["r"].gaps[0].message


def test_names_may_stand_beside_a_capture():
    network = read_files(
        {
            "r/addresses.json": json.dumps(ADDRESSES).encode(),
            "r/routes.json": b"[]",
            "capture.json": b'{"name": "Harbour", "taken_at": "2026-11-20T06:00:00Z"}',
            "names.yaml": b"endpoints: {desk: {address: 10.0.1.9}}\nservices: {web: tcp/80}\ndevices: {r: {vrfs: {}}}",
        }
    )
    assert (network.name, network.taken_at) == ("Harbour", "2026-11-20T06:00:00Z")
    assert str(network.endpoints["desk"].address) == "10.0.1.9"
    assert str(network.services["web"]) == "tcp/80"


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"routes": b'[{"dst":"default","dev":"e1"},{"dst":"10.0'}, "r/routes.json:1:38: this is not JSON"),
        ({"routes": b""}, "r/routes.json:1:1: the file is empty"),
        ({"routes": b"{}"}, "not what the command prints"),
        ({"routes": b"[1]"}, "an object is expected"),
        ({"routes": b'[{"dst": "nowhere", "dev": "e1"}]'}, "cannot be read"),
        ({"routes": b'[{"dst": "default", "gateway": "10.0.1.2", "dev": "e9"}]'}, "not in addresses.json"),
        ({"addresses": b'[{"flags": []}]'}, "without 'ifname'"),
        ({"addresses": b'[{"ifname": "e1", "addr_info": [{"local": "x", "prefixlen": 8}]}]'}, "cannot be read"),
        ({"filters": b'{"nftables": 5}'}, "an object with an array"),
        ({"addresses": None}, "this file is missing"),
    ],
)
def test_a_broken_capture_is_refused_with_its_place(files, said):
    texts = {"addresses": json.dumps(ADDRESSES).encode(), "routes": b"[]", **files}
    with pytest.raises(LoadError) as caught:
        read_files({f"r/{name}.json": data for name, data in texts.items() if data is not None})
    assert said in str(caught.value)


ANY = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.sampled_from(("e1", "10.0.1.0/24", "default", "x", "")),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(KEYS), inner, max_size=3),
    max_leaves=8,
)
ROWS = st.lists(st.dictionaries(st.sampled_from(KEYS), ANY, max_size=6), max_size=3)


@given(
    st.fixed_dictionaries(
        {}, optional=dict.fromkeys(("addresses", "routes", "routes6", "rules", "neighbors", "lldp"), ROWS)
    ),
    ROWS,
)
@settings(max_examples=300)
def test_whatever_json_stands_in_a_capture_is_read_or_refused(files, filters_):
    texts = {"addresses": ADDRESSES, "routes": ROUTES, **files, "filters": {"nftables": filters_}}
    named = {f"r/{name}.json": json.dumps(rows).encode() for name, rows in texts.items()}
    try:
        network, refused = read_files(named), []
    except LoadError as error:
        network, refused = None, error.errors
    assert (network is None) == bool(refused)
    assert all(one.place.line for one in refused)


def test_a_folder_whose_name_is_no_device_is_refused():
    with pytest.raises(LoadError, match="no device name"):
        read_files({"=cmd/addresses.json": b"[]", "=cmd/routes.json": b"[]"})
