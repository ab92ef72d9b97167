"""Capture folders: what is read, and what is said of the rest."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files
from routrel.model.devices import Device
from routrel.model.network import Network
from routrel.model.times import rfc3339
from tests.examples import examples

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
        routes=[*ROUTES, {"type": "xresolve", "dst": "10.9.0.0/16"}],
        rules=[{"priority": 0, "src": "all", "table": "local"}, {"priority": 100, "src": "all", "l3mdev": None}],
    ).gaps
    texts = [gap.message for gap in gaps]
    assert len(texts) == 3
    assert "br0 is a bridge" in texts[0]
    assert "10.9.0.0/16 of type xresolve" in texts[1]
    assert "rule 100 is not represented: l3mdev" in texts[2]
    assert all(gap.place.line == 1 and gap.place.column > 1 for gap in gaps[:2])


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
    assert (network.name, rfc3339(network.taken_at)) == ("Harbour", "2026-11-20T06:00:00Z")
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
@settings(max_examples=examples(300))
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


def test_a_neighbour_at_an_interface_that_is_not_there_is_an_error_at_either_end():
    for end in ("interface", "remote_interface"):
        said = {"interface": "e1", "device": "s", "remote_interface": "e1"} | {end: "e9"}
        files = {
            f"{name}/{file}.json": json.dumps(found).encode()
            for name in ("r", "s")
            for file, found in (("addresses", ADDRESSES), ("routes", ROUTES))
        }
        files["r/lldp.json"] = json.dumps([said]).encode()
        with pytest.raises(LoadError, match="'e9'"):
            read_files(files)


def test_a_key_that_no_reader_knows_is_said_for_each_file():
    made = device(
        addresses=[{**ADDRESSES[0], "surprise": 1}, *ADDRESSES[1:]],
        routes=[{**ROUTES[0], "surprise": 1}, *ROUTES[1:]],
        neighbors=[{"dst": "10.0.1.9", "dev": "e1", "lladdr": "02:00:00:00:00:09", "state": [], "surprise": 1}],
        netconf=[{"family": "inet", "interface": "e1", "forwarding": True, "surprise": 1}],
    )
    assert len([gap for gap in made.gaps if "'surprise'" in gap.message]) == 4


def test_a_tunnel_is_said_to_be_one():
    gaps = device(addresses=[*ADDRESSES, interface("wg0", linkinfo={"info_kind": "wireguard"})]).gaps
    assert any("wg0 is a wireguard interface" in gap.message for gap in gaps)


def test_a_strict_reverse_path_filter_is_said_where_it_acts():
    found = [
        {"family": "inet", "interface": name, "rp_filter": kind} for name, kind in (("e1", "strict"), ("e2", "loose"))
    ]
    (gap,) = device(netconf=found).gaps
    assert (gap.affects, "rp_filter strict of e1" in gap.message) == ("e1", True)
