"""Why a prefix is absent that nobody has any more, or that stands on another: the thing to change is the last step."""

import json
from typing import Any

from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from routrel.analysis.evidence import Evidence
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net
from tests.core.networks import plain


def row_of(**routing: dict[str, Any]) -> dict[str, Any]:
    """Routers one after another: each has a loopback and cables ``e1`` to the one before and ``e2`` to the next."""
    devices, links, before = {}, [], ""
    for number, (name, said) in enumerate(routing.items(), 1):
        interfaces = {"lo": {"addresses": [f"10.0.0.{number}/32"]}}
        if before:
            interfaces["e1"] = {"addresses": [f"10.1.{number}.2/30"]}
            devices[before]["interfaces"]["e2"] = {"addresses": [f"10.1.{number}.1/30"]}
            links.append([f"{before}:e2", f"{name}:e1"])
        devices[name] = {"interfaces": interfaces, "routing": said}
        before = name
    return {"routrel": 1, "name": "row", "devices": devices, "links": links}


def ospf(area: str = "0", *interfaces: str, **more: Any) -> dict[str, Any]:
    return {"areas": {area: {"interfaces": {name: {} for name in interfaces}, **more}}}


def trails(document: dict[str, Any], device: str, prefix: str) -> list[list[str]]:
    solved = solve(read_network({"n.json": json.dumps(document, indent=1).encode()}))
    answer = WhyAnswerer(solved).why(solved.topology.device_index[device], parse_prefix(prefix), with_tipping=False)
    return [[step["message"] for step in trail] for trail in plain(answer)["trails"]]


def test_a_subnet_whose_interface_is_down_by_the_other_end():
    document = row_of(a={"ospf": ospf("0", "lo", "e2")}, b={"ospf": ospf("0", "lo", "e1", "e2")}, c={})
    document["devices"]["c"]["interfaces"]["e1"]["enabled"] = False
    assert trails(document, "a", "10.1.3.0/30") == [
        ["b:e2, which has it, is down: no carrier: c:e1 is disabled"],
        ["c:e1, which has it, is down: it is disabled"],
    ]


def test_a_static_route_is_followed_to_why_its_next_hop_lacks_a_route():
    static = [{"prefix": "10.9.0.0/16", "next_hop": "10.0.0.3"}]
    document = row_of(
        a={"ospf": ospf("0", "lo", "e2"), "static": static},
        b={"ospf": ospf("0", "lo", "e1", "e2")},
        c={"ospf": ospf("0", "lo")},
    )
    (trail,) = trails(document, "a", "10.9.0.0/16")
    assert trail[0] == "the static route for it on a is not active: no route to the next hop 10.0.0.3"
    assert trail[-1].endswith("b:e2 hears nothing of c:e1: c:e1 does not stand in OSPF")
    document["devices"]["a"]["routing"]["static"][0] = {"prefix": "10.9.0.0/16", "next_hop": "10.1.2.2"}
    document["devices"]["b"]["interfaces"]["e1"]["enabled"] = False
    (trail,) = trails(document, "a", "10.9.0.0/16")
    assert trail[-1] == "a:e2, on whose subnet 10.1.2.2 is, is down: no carrier: b:e1 is disabled"


def test_static_routes_that_hang_on_each_other_are_followed_to_an_end():
    static = [{"prefix": f"10.9.{number}.0/24", "next_hop": f"10.9.{1 - number}.1"} for number in (0, 1)]
    found = trails(row_of(a={"static": static}, b={}), "a", "10.9.0.0/24")
    assert found[0][0] == "the static route for it on a is not active: no route to the next hop 10.9.1.1"
    assert len(found[0]) <= 4


def test_rfc2328_a_default_said_always_and_one_of_a_stub_area():
    default = {"originate_default": {"always": True}}
    document = row_of(a={"ospf": ospf("0", "e2")}, b={"ospf": ospf("0", "e1")}, c={"ospf": ospf("0", "e1") | default})
    assert trails(document, "a", "0.0.0.0/0") == [
        [
            "ospf on c says it of itself",
            "no neighbours lead to c: b:e2 hears nothing of c:e1: b:e2 does not stand in OSPF",
        ]
    ]
    border = ospf("0", "lo")
    border["areas"] |= ospf("1", "e2", type="stub")["areas"]
    document = row_of(a={"ospf": border}, b={"ospf": ospf("1", type="stub")})
    document["devices"]["b"]["routing"]["ospf"]["areas"]["1"]["interfaces"] = {"e1": {"passive": True}}
    (trail,) = trails(document, "b", "0.0.0.0/0")
    assert trail[0] == "ospf on a says it of itself"
    assert trail[-1].endswith("b:e1 hears nothing of a:e2: b:e1 is passive in OSPF")


def test_rfc2328_a_range_with_nothing_inside():
    border = ospf("0", "e2")
    border["areas"] |= ospf("1", "lo", ranges=[{"prefix": "10.8.0.0/16"}])["areas"]
    document = row_of(a={"ospf": border}, b={"ospf": ospf("0", "e1")})
    assert trails(document, "b", "10.8.0.0/16") == [
        ["a would say the range, but has nothing inside it in area 0.0.0.1"]
    ]


def test_rfc2328_a_range_is_followed_to_what_would_be_inside_it():
    border = {"areas": {"0": {"interfaces": {"e1": {}}}, "1": {"interfaces": {"e2": {}}}}}
    border["areas"]["1"]["ranges"] = [{"prefix": "10.7.0.0/16"}]
    document = row_of(a={"ospf": ospf("0", "e2")}, b={"ospf": border}, c={"ospf": ospf("1", "e1", "lan")})
    document["devices"]["c"]["interfaces"]["lan"] = {"addresses": ["10.7.3.1/24"]}
    assert trails(document, "a", "10.7.0.0/16") == []
    document["devices"]["c"]["routing"]["ospf"]["areas"]["1"]["interfaces"]["e1"] = {"passive": True}
    assert trails(document, "a", "10.7.0.0/16") == [
        [
            "b would say the range, but has nothing inside it in area 0.0.0.1",
            "c has it: connected",
            "ospf on c announces it",
            "in area 0.0.0.1 no path leads to c: b:e2 hears nothing of c:e1: c:e1 is passive in OSPF",
        ]
    ]


def test_rfc3101_what_an_nssa_keeps_out_may_have_come_by_another_area():
    default = {"originate_default": {"always": True}}
    both = ospf("0", "e1")
    both["areas"] |= ospf("1", "lo", type="nssa")["areas"]
    document = row_of(a={"ospf": ospf("0", "e2") | default}, b={"ospf": ospf("0", "e1", "e2")}, c={"ospf": both})
    assert trails(document, "c", "0.0.0.0/0") == []
    document["devices"]["c"]["interfaces"]["e1"]["enabled"] = False
    of_type, by_other = (trail[-1] for trail in trails(document, "c", "0.0.0.0/0"))
    assert of_type == "area 0.0.0.1 is of type nssa: external routes of other areas do not enter"
    assert by_other.startswith("no area that carries them joins the two: ") and "c:e1 is down" in by_other


def test_where_nothing_tells_a_prefix_to_come_the_default_is_what_leads_there():
    default = {"originate_default": {"always": True}}
    document = row_of(
        a={"ospf": ospf("0", "e2") | default}, b={"ospf": ospf("0", "e1", "e2")}, c={"ospf": ospf("0", "e1")}
    )
    document["devices"]["a"]["interfaces"]["beside"] = {"addresses": ["192.0.2.1/24"]}
    document["devices"]["c"]["routing"]["ospf"]["areas"]["0"]["interfaces"]["e1"] = {"passive": True}
    solved = solve(read_network({"n.json": json.dumps(document, indent=1).encode()}))
    walk = Answerer(solved).asker.ask(Flow("c", "192.0.2.1"))
    (cause,) = plain(Evidence(Answerer(solved)).walk(walk))["forward"]["causes"]
    assert [step["message"] for step in cause["trail"]] == [
        "0.0.0.0/0 would lead there: no neighbours lead to a: c:e1 hears nothing of b:e2: c:e1 is passive in OSPF"
    ]
    assert cause["remedy"]["changes"] == [{"enable": "adjacency", "at": "c:e1"}]
    # Asked for by itself, the prefix is what is told of.
    assert "ospf on a does not announce it" in trails(document, "c", "192.0.2.0/24")[0][-1]


def isis(system: int, area: str, level: str, *interfaces: str, **more: Any) -> dict[str, Any]:
    net = f"49.{area}.0000.0000.{system:04}.00"
    return {"isis": {"net": net, "level": level, "interfaces": {name: {} for name in interfaces}, **more}}


def test_iso10589_the_attached_default_and_what_is_leaked():
    row = {
        "a": isis(1, "0001", "1", "lo", "e2"),
        "b": isis(2, "0001", "1-2", "e1", "e2", leak={}),
        "c": isis(3, "0002", "2", "lo", "e1"),
    }
    assert trails(row_of(**row), "a", "10.0.0.3/32") == []
    document = row_of(**row)
    document["devices"]["c"]["routing"]["isis"]["interfaces"]["e1"] = {"passive": True}
    why = "b:e2 hears nothing of c:e1: c:e1 is passive in IS-IS"
    assert trails(document, "a", "10.0.0.3/32")[0][-1] == f"at level 2 no path leads to c: {why}"
    document["devices"]["a"]["routing"]["static"] = []
    document["devices"]["c"]["routing"]["static"] = [{"prefix": "0.0.0.0/0", "action": "discard"}]
    said = trails(document, "a", "0.0.0.0/0")
    assert [f"b reaches no other area at level 2, so that no default leads to it: {why}"] in said


def chain() -> Net:
    """AS 64500: ``core`` behind ``edge``, which hears the prefix from ``out`` and leaves its next hop as it is."""
    net = Net()
    net.speaker("core", 64500)
    net.speaker("edge", 64500)
    net.cable("core", "edge", 10)
    net.inside("core", "edge")
    net.speaker("out", 64501)
    net.origin("out", NET)
    net.session("edge", "out")
    return net


def test_a_next_hop_of_bgp_is_followed_into_the_protocol_that_would_lead_there():
    assert trails(chain().document(), "core", NET)[0] == [
        "out has it: a static route",
        "bgp on out announces it",
        "core has it from edge, but its next hop 172.16.2.2 does not resolve",
        "edge has it: connected",
        "ospf on edge does not announce it: it stands in none of its interfaces, and 'redistribute' says nothing from"
        " connected",
    ]


def test_a_session_between_loopbacks_is_followed_to_what_keeps_them_apart():
    net = chain()
    net.bgp("edge")["neighbors"]["10.0.0.1"]["next_hop_self"] = True
    assert trails(net.document(), "core", NET) == []
    net.devices["edge"]["routing"]["ospf"]["areas"]["0"]["interfaces"]["c1"]["passive"] = True
    first = trails(net.document(), "core", NET)[0]
    assert first[2] == "core has no session with edge (10.0.0.2): core has no route to 10.0.0.2"
    assert first[-1].endswith("core:c1 hears nothing of edge:c1: edge:c1 is passive in OSPF")
    # Of a flow the cause tells both, and mends what is beneath.
    net.devices["out"]["interfaces"]["lan"] = {"addresses": ["203.0.113.1/24"]}
    net.devices["out"]["routing"].pop("static")
    solved = net.solve()
    found = plain(Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow("core", "203.0.113.1"))))
    (cause,) = found["forward"]["causes"]
    assert [step["message"] for step in cause["trail"]][:2] == [first[2], first[-1]]
    assert cause["remedy"]["changes"] == [{"enable": "adjacency", "at": "edge:c1"}]


def test_an_aggregate_is_followed_to_what_would_be_inside_it():
    net = chain()
    net.bgp("edge")["aggregates"] = [{"prefix": "203.0.0.0/16"}]
    assert trails(net.document(), "core", "203.0.0.0/16") == []
    net.bgp("out")["neighbors"]["172.16.2.1"]["enabled"] = False
    (trail,) = trails(net.document(), "core", "203.0.0.0/16")
    assert trail[0] == "edge would say the aggregate, but BGP there has nothing inside it"
    assert trail[-1] == "edge has no session with out (172.16.2.2): it is disabled on out"


def test_each_of_several_sessions_between_two_speakers_is_told_by_what_takes_it_down():
    net = chain()
    net.session("edge", "out")
    net.devices["out"]["interfaces"]["c2"]["enabled"] = False
    net.bgp("out")["neighbors"]["172.16.3.1"]["enabled"] = False
    text = json.dumps(net.document(), indent=1)
    solved = solve(read_network({"n.json": text.encode()}))
    answer = plain(WhyAnswerer(solved).why(solved.topology.device_index["edge"], parse_prefix(NET), with_tipping=False))
    ends = [(trail[-1]["message"], trail[-1]["place"]["line"]) for trail in answer["trails"]]
    lines = text.splitlines()
    assert [(said, lines[line - 1].strip()) for said, line in ends] == [
        ("edge has no session with out (172.16.3.2): it is disabled on out", '"172.16.3.1": {'),
        ("edge:c2, on whose subnet 172.16.2.2 is, is down: no carrier: out:c2 is disabled", '"c2": {'),
    ]


def test_a_default_for_a_neighbour_whose_session_an_acl_cuts():
    net = chain()
    net.bgp("edge")["neighbors"]["172.16.2.2"]["originate_default"] = True
    assert trails(net.document(), "out", "0.0.0.0/0") == []
    net.devices["out"]["acls"] = {"none": [{"action": "drop"}]}
    net.devices["out"]["interfaces"]["c2"]["acl_in"] = "none"
    ((first, why),) = trails(net.document(), "out", "0.0.0.0/0")
    assert first == "bgp on edge says it of itself"
    assert why == "edge has no session with out (172.16.2.2): ACL none of out drops BGP's packets (entry 1)"
    text = json.dumps(net.document(), indent=1)
    (finding,) = solve(read_network({"n.json": text.encode()})).findings
    lines = text.splitlines()[finding.places[0].line - 1 :]
    assert finding.code == "bgp-session" and "".join(lines).lstrip(" {").startswith('"action": "drop"')
