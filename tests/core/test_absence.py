"""What keeps a prefix from a router: each protocol, each thing that can be wrong on a cable, at either end."""

import json
from copy import deepcopy
from typing import Any

import pytest

from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from routrel.formats.network_file import read_network
from routrel.solving import solve
from tests.core.networks import plain

PROTOCOLS = ("ospf", "isis", "rip", "eigrp")
FAR = "10.0.0.3/32"
PUT_IN = "10.77.0.0/16"
"""A static route of the far router that it puts into the protocol."""


def chain(protocol: str) -> dict[str, Any]:
    """Routers a - b - c that all run one protocol on all their interfaces."""
    devices: dict[str, Any] = {}
    for number, (name, interfaces) in enumerate({"a": ["e1"], "b": ["e1", "e2"], "c": ["e2"]}.items(), 1):
        addresses = {"lo": f"10.0.0.{number}/32"} | {one: f"10.1.{one[1]}.{number}/29" for one in interfaces}
        stated: dict[str, Any] = {one: {} for one in addresses}
        routing: dict[str, Any] = {
            "ospf": {"ospf": {"areas": {"0": {"interfaces": stated}}}},
            "isis": {"isis": {"net": f"49.0001.0000.0000.000{number}.00", "interfaces": stated}},
            "rip": {"rip": {"interfaces": stated}},
            "eigrp": {"eigrp": {"as": 7, "interfaces": stated}},
        }[protocol]
        devices[name] = {
            "interfaces": {one: {"addresses": [address]} for one, address in addresses.items()},
            "routing": {"router_id": f"10.0.0.{number}", **routing},
        }
    (own,) = (key for key in devices["c"]["routing"] if key in PROTOCOLS)
    devices["c"]["routing"] |= {"static": [{"prefix": PUT_IN, "action": "discard"}]}
    devices["c"]["routing"][own]["redistribute"] = [{"from": "static", "metric": 1}]
    return {"routrel": 1, "name": "chain", "devices": devices, "links": [["a:e1", "b:e1"], ["b:e2", "c:e2"]]}


def stated(document: dict[str, Any], protocol: str, device: str) -> dict[str, Any]:
    """What a device says of its interfaces in the protocol."""
    routing = document["devices"][device]["routing"][protocol]
    return routing["areas"]["0"]["interfaces"] if protocol == "ospf" else routing["interfaces"]


def stops(document: dict[str, Any], device: str = "a", prefix: str = FAR) -> list[tuple[str, list[str]]]:
    """The last steps of all trails: what is said, and the lines it points to."""
    text = json.dumps(document, indent=1)
    lines = text.splitlines()
    solved = solve(read_network({"network.json": text.encode()}))
    number = solved.topology.device_index[device]
    trails = plain(WhyAnswerer(solved).why(number, parse_prefix(prefix), with_tipping=False))["trails"]
    found = []
    for trail in trails:
        places = [trail[-1]["place"], *trail[-1]["other_places"]]
        found.append((trail[-1]["message"], [lines[place["line"] - 1] for place in places if place]))
    return found


def only_stop(document: dict[str, Any], **asked: str) -> tuple[str, list[str]]:
    found = stops(document, **asked)
    assert len(found) == 1, found
    return found[0]


@pytest.mark.parametrize("prefix", [FAR, PUT_IN])
@pytest.mark.parametrize("protocol", PROTOCOLS)
def test_nothing_is_wrong_with_the_chain_itself(protocol, prefix):
    assert stops(chain(protocol), prefix=prefix) == []


@pytest.mark.parametrize("prefix", [FAR, PUT_IN])
@pytest.mark.parametrize("protocol", PROTOCOLS)
@pytest.mark.parametrize("end", ["a:e1", "b:e1", "b:e2", "c:e2"])
class TestOneEnd:
    """A fault at one end of one of the two cables, asked for by the router at the other end of the chain."""

    def test_a_disabled_interface(self, protocol, end, prefix):
        document, (device, name) = chain(protocol), end.split(":")
        document["devices"][device]["interfaces"][name]["enabled"] = False
        text, lines = only_stop(document, prefix=prefix)
        assert f"{end} is down: it is disabled" in text
        assert any(f'"{name}"' in line or '"enabled": false' in line for line in lines)

    def test_an_interface_that_does_not_stand_in_the_protocol(self, protocol, end, prefix):
        document, (device, name) = chain(protocol), end.split(":")
        del stated(document, protocol, device)[name]
        assert f"{end} does not stand in" in only_stop(document, prefix=prefix)[0]

    def test_a_passive_interface(self, protocol, end, prefix):
        document, (device, name) = chain(protocol), end.split(":")
        stated(document, protocol, device)[name] = {"passive": True}
        if protocol == "rip" and end in ("a:e1", "b:e2"):
            assert stops(document, prefix=prefix) == []  # RIP hears on an interface on which it is silent
            return
        text, lines = only_stop(document, prefix=prefix)
        assert f"{end} is passive" in text
        assert any(f'"{name}"' in line or '"passive": true' in line for line in lines)

    def test_an_acl_that_drops_its_packets(self, protocol, end, prefix):
        document, (device, name) = chain(protocol), end.split(":")
        document["devices"][device]["acls"] = {"none": [{"action": "drop"}]}
        document["devices"][device]["interfaces"][name]["acl_in"] = "none"
        if protocol == "isis" or (protocol == "rip" and end in ("b:e1", "c:e2")):
            assert stops(document, prefix=prefix) == []  # IS-IS is no IP; RIP asks for nothing to be said
            return
        assert f"ACL none of {device} drops" in only_stop(document, prefix=prefix)[0]


@pytest.mark.parametrize("prefix", [FAR, PUT_IN])
@pytest.mark.parametrize("protocol", PROTOCOLS)
class TestBothEnds:
    def test_a_disabled_link(self, protocol, prefix):
        document = chain(protocol)
        document["links"][1] = {"ends": ["b:e2", "c:e2"], "enabled": False}
        assert "the link of" in only_stop(document, prefix=prefix)[0]
        assert "is disabled" in only_stop(document, prefix=prefix)[0]

    def test_a_router_without_the_protocol(self, protocol, prefix):
        document = chain(protocol)
        del document["devices"]["b"]["routing"]
        assert (
            f"b runs no {'IS-IS' if protocol == 'isis' else protocol.upper()}" in stops(document, prefix=prefix)[0][0]
        )

    def test_two_vlans_between_the_two(self, protocol, prefix):
        document = chain(protocol)
        ports = {name: {"switchport": {"access": vlan}} for name, vlan in (("p1", 10), ("p2", 20))}
        document["devices"]["s"] = {"kind": "switch", "interfaces": ports}
        document["links"][1:] = [["b:e2", "s:p1"], ["s:p2", "c:e2"]]
        text, lines = only_stop(document, prefix=prefix)
        assert (
            "s:p1 is in VLAN 10 and s:p2 is in VLAN 20" in text or "s:p2 is in VLAN 20 and s:p1 is in VLAN 10" in text
        )
        assert len(lines) == 2


def test_ospf_areas_types_and_networks_that_differ():
    document = chain("ospf")
    ospf = document["devices"]["c"]["routing"]["ospf"]
    moved = deepcopy(document)
    moved["devices"]["c"]["routing"]["ospf"]["areas"] = {"1": ospf["areas"]["0"]}
    assert "area 0.0.0.0 against area 0.0.0.1" in only_stop(moved)[0]
    typed = deepcopy(document)
    stated(typed, "ospf", "c")["e2"] = {"network": "broadcast"}
    assert "network type" in only_stop(typed)[0]


def test_isis_areas_levels_systems_and_metrics_that_differ():
    def changed(**keys: Any) -> str:
        document = chain("isis")
        document["devices"]["c"]["routing"]["isis"].update(keys)
        if "level" in keys or "net" in keys:
            for name in "ab":
                document["devices"][name]["routing"]["isis"]["level"] = "1"
        return only_stop(document)[0]

    assert "a is of level 1 and c of level 2, and no router of area 490001 is of both" in changed(level="2")
    assert "at level 1" in changed(net="49.0002.0000.0000.0003.00", level="1")
    assert "both have the system id" in changed(net="49.0001.0000.0000.0002.00")
    assert "wide metrics against narrow" in changed(wide_metrics=False)


def test_eigrp_numbers_that_differ():
    document = chain("eigrp")
    document["devices"]["c"]["routing"]["eigrp"]["as"] = 8
    assert "7" in only_stop(document)[0]
    assert "8" in only_stop(document)[0]


class TestIsisBelowLevel2:
    """RFC 1195 section 3.2: routers of both levels bring what level 1 has into level 2."""

    def chain(self) -> dict[str, Any]:
        """a of level 2, b of both, c of level 1 in the area of b."""
        document = chain("isis")
        for name, level, area in (("a", "2", 2), ("b", "1-2", 1), ("c", "1", 1)):
            isis = document["devices"][name]["routing"]["isis"]
            isis.update(level=level, net=f"49.000{area}.0000.0000.000{'abc'.index(name) + 1}.00")
        return document

    def test_sound(self):
        assert stops(self.chain()) == []

    def test_the_cable_below_is_broken(self):
        document = self.chain()
        stated(document, "isis", "b")["e2"] = {"passive": True}
        text, _ = only_stop(document)
        assert "b of area 490001 and of level 2 does not hear it at level 1" in text
        assert "b:e2 is passive" in text

    def test_the_cable_above_is_broken(self):
        document = self.chain()
        stated(document, "isis", "a")["e1"] = {"passive": True}
        text, _ = only_stop(document)
        assert "no path leads to b, which has it at level 1" in text
        assert "a:e1 is passive" in text

    def test_from_below_the_cable_to_the_router_of_both_levels_is_broken(self):
        document = self.chain()
        stated(document, "isis", "b")["e2"] = {"passive": True}
        text, _ = only_stop(document, device="c", prefix="10.0.0.1/32")
        assert "no path leads to b, which would lead it on to other areas" in text
        assert "b:e2 is passive" in text

    def test_from_below_nothing_is_wrong(self):
        text, _ = only_stop(self.chain(), device="c", prefix="10.0.0.1/32")
        assert "follows the attached default" in text

    def test_nobody_is_of_both_levels(self):
        document = self.chain()
        document["devices"]["b"]["routing"]["isis"]["level"] = "1"
        text, lines = only_stop(document)
        assert "no router of area 490001 is of both levels" in text
        assert len(lines) == 1


class TestOspfBorder:
    """a and b's e1 in area 1, the rest in the backbone: b is the border."""

    def chain(self) -> dict[str, Any]:
        document = chain("ospf")
        document["devices"]["a"]["routing"]["ospf"]["areas"] = {"1": {"interfaces": {"lo": {}, "e1": {}}}}
        document["devices"]["b"]["routing"]["ospf"]["areas"] = {
            "0": {"interfaces": {"lo": {}, "e2": {}}},
            "1": {"interfaces": {"e1": {}}},
        }
        return document

    def test_sound(self):
        assert stops(self.chain()) == []

    def test_the_cable_to_the_border_is_broken(self):
        document = self.chain()
        document["devices"]["b"]["routing"]["ospf"]["areas"]["1"]["interfaces"]["e1"] = {"passive": True}
        text, _ = only_stop(document)
        assert "no border router of area 0.0.0.1 is reached" in text
        assert "b:e1 is passive" in text

    def test_the_cable_beyond_the_border_is_broken(self):
        document = self.chain()
        document["devices"]["c"]["routing"]["ospf"]["areas"]["0"]["interfaces"]["e2"] = {"passive": True}
        assert any("c:e2 is passive" in text for text, _ in stops(document))
