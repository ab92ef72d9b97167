"""Documents in open models: both encodings, what is refused, what is counted, and folders that mix."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.errors import LoadError
from routrel.formats.models.writing import document_of
from routrel.formats.sources import read_files, read_path
from routrel.model.fields import replace
from routrel.model.unchanged import without_places
from routrel.solving import solve
from tests.core import mixed_networks
from tests.core.model_documents import (
    as_xml,
    files_of,
    gaps,
    ietf,
    ietf_interface,
    network_of,
    ospf,
    refusals,
    solved_of,
    static,
)
from tests.core.networks import table
from tests.core.rfc_documents import RFC8349_ROUTER
from tests.core.rfc_protocol_documents import RFC8529_ROUTER, RFC8695_ROUTER
from tests.core.test_openconfig_forwarding import PARTS
from tests.examples import examples

ROUTER = ietf(
    ietf_interface("e1", "192.0.2.1/24", "2001:db8::1/64", description="to the carrier"),
    protocols=[static(("0.0.0.0/0", {"next-hop-address": "192.0.2.2"}))],
    routing={"router-id": "192.0.2.1"},
)
XML = """<?xml version="1.0"?>
<rpc-reply message-id="7" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><data>
 <interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces" xmlns:t="urn:ietf:params:xml:ns:yang:iana-if-type">
  <interface><name>e1</name><type>t:ethernetCsmacd</type><description>to the carrier</description>
   <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><forwarding>true</forwarding>
    <address><ip>192.0.2.1</ip><prefix-length>24</prefix-length></address></ipv4>
   <ip:ipv6 xmlns:ip="urn:ietf:params:xml:ns:yang:ietf-ip"><ip:forwarding>true</ip:forwarding>
    <ip:address><ip:ip>2001:db8::1</ip:ip><ip:prefix-length>64</ip:prefix-length></ip:address></ip:ipv6>
  </interface>
 </interfaces>
 <routing xmlns="urn:ietf:params:xml:ns:yang:ietf-routing"><router-id>192.0.2.1</router-id>
  <control-plane-protocols><control-plane-protocol><type>static</type><name>st</name><static-routes>
   <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ipv4-unicast-routing"><route>
    <destination-prefix>0.0.0.0/0</destination-prefix><next-hop><next-hop-address>192.0.2.2</next-hop-address></next-hop>
   </route></ipv4></static-routes></control-plane-protocol></control-plane-protocols></routing>
</data></rpc-reply>"""


def as_instance_data(document: dict) -> dict:
    """RFC 9195: a document as an instance data set."""
    return {"ietf-yang-instance-data:instance-data-set": {"name": "r", "content-data": document}}


def test_all_wrappings_mean_the_same():
    plain = without_places(network_of(r=ROUTER).devices["r"])
    counted = [
        network_of(r=document).devices["r"]
        for document in (as_instance_data(ROUTER), {"ietf-restconf:data": ROUTER}, XML)
    ]
    for device in counted:
        assert without_places(device)[: len(plain) - 1] == plain[:-1]  # the last field counts statements


def test_what_is_read_has_the_place_of_its_statement():
    device = network_of(r=XML).devices["r"]
    assert str(device.interfaces["e1"].place) == "r.xml:4:3"
    assert str(device.routing.static[0].place) == "r.xml:13:72"
    text = json.dumps(ROUTER, indent=1)
    line = 1 + text[: text.index('"destination-prefix"')].count("\n") - 1
    assert network_of(r=text).devices["r"].routing.static[0].place.line == line


def test_a_value_that_cannot_be_is_refused_where_it_stands():
    wrong = ietf(ietf_interface("e1", "192.0.2.1/33"), routing={"router-id": "none"})
    address, router_id = refusals(r=wrong)
    assert address.startswith("r.json:10:7: this is not an address with its length")
    assert "found '192.0.2.1/33'" in address
    assert router_id.startswith("r.json:20:3: this is not a router id in IPv4 form")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('{"ietf-interfaces:interfaces": {"interface": [', "this is not JSON"),
        ('{"ietf-a:a": {"b": 1, "b": 2}}', "the member stands twice; first in line 1; found 'b'"),
        ('{"ietf-a:a": [[1]]}', "a list in a list is no data of a YANG model"),
        ('{"ietf-a:a": {"no name": 1}}', "this is no name of a YANG node"),
        ('{"ietf-a:a": {}, "b": 1}', "a member at the top names its module (RFC 7951 section 4); found 'b'"),
        ('{"ietf-a:a": ' * 70 + "1" + "}" * 70, "the text is nested too deeply"),
        ('{"acme-interfaces:interfaces": {"interface": []}}', "this is not in the namespace of its model"),
        ('{"ietf-system:system": {"hostname": "../../etc"}}', "this is no host name; found '../../etc'"),
        ('<!DOCTYPE a [<!ENTITY x "y">]><a xmlns="urn:a">&x;</a>', "a document type is declared; found DOCTYPE"),
        ('<a xmlns="urn:a"><b></a>', "this is not XML: mismatched tag"),
        ('<a xmlns="urn:a">text<b/></a>', "text stands between elements; found 'text'"),
        ("<interfaces/>", "an element is in no namespace; found 'interfaces'"),
        ('<a xmlns="urn:a">' * 70 + "</a>" * 70, "the text is nested too deeply"),
        ('<interfaces xmlns="urn:wrong"/>', "this is not in the namespace of its model; found 'urn:wrong'"),
    ],
)
def test_bad_documents_are_located_errors(text, says):
    (first, *_) = refusals(r=text)
    assert says in first and first.startswith(("r.json:1:", "r.xml:1:"))


def test_an_entry_that_stands_twice_or_has_no_key_is_refused():
    twice = ietf(ietf_interface("e1", "192.0.2.1/24"), ietf_interface("e1", "192.0.2.9/24"))
    (error,) = refusals(r=twice)
    assert error.startswith("r.json:17:4: the entry stands twice; first in line 4; found 'e1'")
    (error,) = refusals(r=ietf({"description": "nameless"}))
    assert "an entry of 'interface' without its key 'name'" in error


def test_what_nobody_reads_is_one_gap_for_each_kind_with_its_count():
    own = {"acme-optics:laser": [{"power": 1, "colour": "red"}, {"power": 2}]}
    document = ietf(ietf_interface("e1", "192.0.2.1/24", **{"acme-if:turbo": True}))
    network = network_of(r=document | own)
    assert gaps(network, "r") == [
        "/interfaces/interface/acme-if:turbo is not represented",
        "/acme-optics:laser (3 statements) is not represented",
    ]
    assert [gap.affects for gap in network.devices["r"].gaps] == ["e1", ""]
    count = network.devices["r"].statements
    assert (count.all, count.used, count.not_represented) == (9, 5, 4)


def test_what_decides_nothing_is_counted_and_not_said():
    entry = ietf_interface("e1", "192.0.2.1/24", statistics={"in-octets": "7"}, if_index=3)
    network = network_of(r=ietf(entry))
    assert gaps(network, "r") == []
    assert network.devices["r"].statements.idle == 2


def test_a_statement_of_another_module_is_never_taken_for_a_standard_one():
    entry = ietf_interface("e1", "192.0.2.1/24") | {"acme:enabled": False}
    network = network_of(r=ietf(entry))
    assert network.devices["r"].interfaces["e1"].enabled
    assert gaps(network, "r") == ["/interfaces/interface/acme:enabled is not represented"]


def test_documents_of_configuration_and_of_state_make_one_device():
    state = {
        "ietf-interfaces:interfaces": {
            "interface": [
                {"name": "e1", "oper-status": "up", "phys-address": "02:00:00:00:00:01"}
                | {k: v for k, v in ietf_interface("e1", "192.0.2.1/24").items() if k.startswith("ietf-ip")}
            ]
        },
        "ietf-routing:routing": {
            "control-plane-protocols": {
                "control-plane-protocol": [static(("0.0.0.0/0", {"next-hop-address": "192.0.2.2"}))]
            }
        },
    }
    files = {"r/config.json": json.dumps(ROUTER).encode(), "r/state.json": json.dumps(state).encode()}
    device = read_files(files).devices["r"]
    assert len(device.interfaces["e1"].addresses) == 2 and device.interfaces["e1"].mac == "02:00:00:00:00:01"
    assert len(device.routing.static) == 1


# Folders that mix

OURS = b"""routrel: 1
name: mixed
links:
- [r:e1, p:e9]
endpoints:
  desk: {address: 192.0.2.1}
"""
CAPTURED = {
    "c/addresses.json": json.dumps(
        [
            {"ifname": "lo", "flags": ["LOOPBACK", "UP"], "addr_info": []},
            {
                "ifname": "eth0",
                "flags": ["UP", "LOWER_UP"],
                "addr_info": [{"family": "inet", "local": "192.0.2.3", "prefixlen": 24, "scope": "global"}],
            },
        ]
    ).encode(),
    "c/routes.json": json.dumps([{"dst": "default", "gateway": "192.0.2.1", "dev": "eth0"}]).encode(),
}


def mixed_files() -> dict[str, bytes]:
    own = b"interfaces: {e9: {addresses: [192.0.2.2/24]}}\nrouting: {static: [{prefix: 0.0.0.0/0, action: discard}]}\n"
    return {"network.yaml": OURS, "devices/p.yaml": own, **files_of({"r": ROUTER}), **CAPTURED}


def test_a_folder_may_hold_devices_known_in_different_ways():
    network = read_files(mixed_files())
    assert network.name == "mixed" and set(network.devices) == {"r", "p", "c"}
    assert [str(end) for end in network.links[0].ends] == ["r:e1", "p:e9"] and "desk" in network.endpoints
    solved = solve(network)
    assert table(solved, "c")["0.0.0.0/0"].protocol == "static"


def test_a_device_known_by_a_capture_cannot_be_written_too():
    files = mixed_files() | {"devices/c.yaml": b"{}\n"}
    with pytest.raises(LoadError, match="the device is known by a capture too"):
        read_files(files)


def test_a_device_known_by_a_capture_has_no_documents_too():
    files = mixed_files() | {"c/state.json": json.dumps(ROUTER).encode()}
    with pytest.raises(LoadError, match=r"c/state\.json:1:1: the device is known by a capture, too"):
        read_files(files)


def test_files_of_other_kinds_beside_a_network_are_passed_over(tmp_path):
    for name, data in mixed_files().items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(data)
    (tmp_path / "junit.xml").write_text("<testsuites/>")
    (tmp_path / "stock.csv").write_text("rack,serial\n1,2\n")
    assert set(read_path(tmp_path).devices) == {"r", "p", "c"}


def test_sites_that_only_devices_name_are_there_and_may_be_written_too():
    leaf = {"routrel-device:not-in-models": {"network-file": '{"site": "quay"}'}}
    files = files_of({"r": ROUTER | leaf, "s": ietf(ietf_interface("e1", "192.0.2.2/24"))})
    assert list(read_files(files).sites) == ["quay"]
    written = files | {"devices/s.yaml": b"site: pier\ninterfaces: {e1: {addresses: [192.0.2.2/24]}}\n"}
    assert set(read_files(written).sites) == {"quay", "pier"}


def test_a_folder_in_which_a_document_is_cut_short_or_nothing_is_known_is_refused():
    with pytest.raises(LoadError, match=r"s\.json:1:2: this is not JSON"):
        read_files(files_of({"r": ROUTER}) | {"s.json": b"{"})
    with pytest.raises(LoadError, match="the folder holds no device"):
        read_files({"collected.json": b"{}"})


def test_a_link_to_an_interface_no_document_has_is_refused():
    files = mixed_files() | {"network.yaml": OURS.replace(b"r:e1", b"r:e7")}
    with pytest.raises(LoadError, match="there is no interface on r of this name; found 'e7'"):
        read_files(files)


def test_neighbours_are_found_by_lldp_under_the_name_they_give_themselves():
    def lldp(interface, system, port):
        neighbor = {"id": "1", "state": {"system-name": system, "port-id": port, "chassis-id": "x"}}
        return {
            "openconfig-lldp:lldp": {
                "interfaces": {"interface": [{"name": interface, "neighbors": {"neighbor": [neighbor]}}]}
            }
        }

    one = ietf(ietf_interface("e1", "192.0.2.1/24"), trees=lldp("e1", "edge.example", "ge0"))
    other = ietf(ietf_interface("ge0", "192.0.2.2/24"), trees={"ietf-system:system": {"hostname": "edge"}})
    network = network_of(a=one, b=other)
    assert [list(map(str, link.ends)) for link in network.links] == [["a:e1", "b:ge0"]]
    alone = network_of(a=one)
    assert gaps(alone, "a") == ["a:e1 is cabled to edge.example:ge0, which was not captured"]
    odd = network_of(a=one | lldp("e1", "edge", "Uplink 1"), b=other)
    assert gaps(odd, "a") == ["a:e1 is cabled to b:Uplink 1, an interface that it does not have"]


# Changes

PAIR = {
    "a": ietf(ietf_interface("e1", "192.0.2.1/24"), protocols=[ospf({"0.0.0.0": [{"name": "e1", "cost": 5}]})]),
    "b": ietf(
        ietf_interface("e1", "192.0.2.2/24"),
        ietf_interface("e2", "198.51.100.1/24", **{"acme:knob": 1}),
        protocols=[ospf({"0.0.0.0": [{"name": "e1"}, {"name": "e2", "cost": 7, "passive": True}]})],
    ),
}


def metrics(solved) -> dict[str, int]:
    return {str(prefix): route.metric for prefix, route in table(solved, "a").items() if route.protocol == "ospf"}


def test_a_device_known_by_documents_can_be_changed_and_keeps_its_gaps():
    files = files_of(PAIR)
    solved = solve(read_files(files))
    assert metrics(solved) == {"198.51.100.0/24": 12}
    trial = Trial.of(files, solved, [read_change("set: cost, at: b:e2, to: 100", "change")])
    assert metrics(trial.after) == {"198.51.100.0/24": 105}
    assert trial.after.network.devices["b"].gaps == solved.network.devices["b"].gaps
    (name,) = trial.applied.changed_files
    assert name == "devices/b.yaml"
    stored = files | {name: trial.applied.changed_files[name].encode()}
    again = read_files(stored)
    assert metrics(solve(again)) == {"198.51.100.0/24": 105}
    assert again.devices["b"].gaps and again.name == read_files(files).name
    second = Trial.of(stored, solve(again), [read_change("set: cost, at: b:e2, to: 9", "change")])
    assert metrics(second.after) == {"198.51.100.0/24": 14}


# Properties

NAMES = st.sampled_from(
    ["interfaces", "interface", "name", "ietf-ip:ipv4", "address", "ip", "prefix-length", "config", "type"]
)
VALUES = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-5, 5000), st.sampled_from(["e1", "10.0.0.1", "x" * 90, "é", ""])),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(NAMES, inner, max_size=4)),
    max_leaves=12,
)


@settings(max_examples=examples(300), deadline=None)
@given(
    st.sampled_from(["ietf-interfaces:interfaces", "openconfig-interfaces:interfaces", "ietf-routing:routing"]), VALUES
)
def test_any_json_is_read_or_refused_with_a_place(top, value):
    for error in refusals(r={top: value}):
        assert error.startswith(("r.json:", "r:"))


@settings(max_examples=examples(200), deadline=None)
@given(st.integers(0, len(XML)), st.sampled_from(["", "<", "&x;", "</a>", "<a/>", '"']))
def test_cut_or_broken_xml_is_read_or_refused_with_a_place(position, text):
    for error in refusals(r="<" + XML[1:position] + text):
        assert error.startswith("r.xml:") or "this file has no place" in error


def test_solved_documents_answer():
    assert str(next(iter(table(solved_of(r=ROUTER), "r")))) == "0.0.0.0/0"


def branches(value, path=()):
    """Every place of a document that something may stand at."""
    yield path
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        yield from branches(inner, (*path, key))


def with_other(value, path, other):
    if not path:
        return other
    copy = dict(value) if isinstance(value, dict) else list(value)
    copy[path[0]] = with_other(value[path[0]], path[1:], other)
    return copy


WHOLE = [ROUTER, *PAIR.values(), *PARTS]


@settings(max_examples=examples(400), deadline=None)
@given(st.data())
def test_a_document_with_anything_in_any_place_is_read_or_refused(data):
    """Never a failure of ours: what cannot be is refused in the words of what it should be."""
    document = data.draw(st.sampled_from(WHOLE))
    path = data.draw(st.sampled_from([*branches(document)][1:]))
    other = data.draw(st.one_of(VALUES, st.sampled_from([{}, [], [{}], 0, "", "x:y", None, "-1", "0.0.0.0/0"])))
    for error in refusals(r=with_other(document, path, other)):
        assert "cannot be read as a device" not in error
        assert error.startswith(("r.json:", "r:"))


@settings(max_examples=examples(30), deadline=None)
@given(mixed_networks.documents())
def test_both_encodings_say_the_same(document):
    """Documents that a writer of ours makes, and those of the RFCs."""
    devices = {name: document_of(name, device) for name, device in document["devices"].items()}
    apart = {"gaps": (), "statements": None}
    for one in (devices, {"r": RFC8349_ROUTER}, {"r": RFC8529_ROUTER}, {"r": RFC8695_ROUTER}):
        json_read, xml_read = network_of(**one), network_of(**{name: as_xml(device) for name, device in one.items()})
        for name, device in json_read.devices.items():
            other = xml_read.devices[name]
            assert gaps(json_read, name) == gaps(xml_read, name)
            assert without_places(replace(device, **apart)) == without_places(replace(other, **apart))
