"""Virtual routers in open models: RFC 8347 and OpenConfig's groups, read; RFC 8347, written and patched."""

import copy
import json
from typing import Any

from routrel.formats.models.patching import edits_between
from routrel.model.addresses import Address, Prefix
from routrel.model.virtual_routers import TrackedInterface, TrackedNetwork, VirtualRouter
from tests.core.gateway_networks import lan, virtual
from tests.core.model_documents import gaps, ietf, ietf_interface, network_of, openconfig, refusals
from tests.core.test_written_models import read_back

BOTH = ("ipv4", "ipv6")


def instance(number: int, *addresses: str, version: int = 3, **more: Any) -> dict[str, Any]:
    """An entry of ``vrrp-instance``."""
    family = "ipv6" if ":" in addresses[0] else "ipv4"
    listed = [{f"{family}-address": address} for address in addresses]
    own = {f"virtual-{family}-addresses": {f"virtual-{family}-address": listed}}
    return {"vrid": number, "version": f"ietf-vrrp:vrrp-v{version}", **own, **more}


def router(*instances: dict[str, Any]) -> dict[str, Any]:
    """A device with an uplink and virtual routers on its other interface."""
    entry = ietf_interface("eth1", "192.0.2.2/24", "2001:db8::2/64")
    for family in BOTH:
        mine = [one for one in instances if f"virtual-{family}-addresses" in one]
        if mine:
            entry[f"ietf-ip:{family}"]["ietf-vrrp:vrrp"] = {"vrrp-instance": mine}
    return ietf(ietf_interface("eth0", "198.51.100.2/30"), entry)


def routers_of(network: Any, device: str = "r", interface: str = "eth1") -> list[VirtualRouter]:
    return list(network.devices[device].interfaces[interface].virtual_routers)


def addresses(*texts: str) -> tuple[Address, ...]:
    return tuple(map(Address.parse, texts))


def test_rfc8347_instances_of_both_families():
    tracked = {"interfaces": {"interface": [{"interface": "eth0", "priority-decrement": 30}, {"interface": "eth1"}]}}
    network = network_of(
        r=router(
            instance(1, "192.0.2.1", priority=120, preempt={"enabled": False, "hold-time": 10}, track=tracked),
            instance(2, "192.0.2.9", "192.0.2.10", version=2),
            instance(1, "fe80::1", "2001:db8::1", **{"accept-mode": True, "advertise-interval-centi-sec": 100}),
        )
    )
    first, second, third = routers_of(network)
    assert (first.identifier, first.version, first.priority, first.preempt, first.accept) == (1, 3, 120, False, False)
    assert first.addresses == addresses("192.0.2.1")
    assert first.tracked == (TrackedInterface("eth0", 30), TrackedInterface("eth1", 10))
    assert (second.version, second.priority, second.preempt) == (2, 100, True)
    assert second.addresses == addresses("192.0.2.9", "192.0.2.10")
    assert third.accept and third.addresses == addresses("fe80::1", "2001:db8::1")
    assert gaps(network, "r") == []


def test_rfc8347_tracked_networks_and_states_that_say_nothing():
    listed = [{"prefix": "203.0.113.0/24", "priority-decrement": 20}, {"prefix": "0.0.0.0/0"}]
    networks = {"networks": {"network": listed}}
    own = {"state": "ietf-vrrp:master", "last-adv-source": "192.0.2.3", "statistics": {"advertisement-sent": "7"}}
    network = network_of(r=router(instance(1, "192.0.2.1", track=networks, **own)))
    assert gaps(network, "r") == []
    (only,) = routers_of(network)
    assert only.tracked_networks == (
        TrackedNetwork(Prefix.parse("203.0.113.0/24"), 20),
        TrackedNetwork(Prefix.parse("0.0.0.0/0"), 10),
    )


def test_rfc8347_one_without_addresses_or_on_an_interface_without_any_is_a_gap():
    bare = {"vrid": 1, "version": "ietf-vrrp:vrrp-v3"}
    by_lease = ietf_interface("eth2")
    by_lease["ietf-ip:ipv4"] = {"ietf-vrrp:vrrp": {"vrrp-instance": [instance(2, "192.0.2.1")]}}
    device = router()
    device["ietf-interfaces:interfaces"]["interface"][1]["ietf-ip:ipv4"]["ietf-vrrp:vrrp"] = {"vrrp-instance": [bare]}
    device["ietf-interfaces:interfaces"]["interface"].append(by_lease)
    network = network_of(r=device)
    assert len(gaps(network, "r")) == 2 and all("without addresses" in one for one in gaps(network, "r"))
    assert routers_of(network) == routers_of(network, interface="eth2") == []


def test_rfc8347_in_xml():
    text = """<data xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">
      <interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface>
        <name>eth1</name>
        <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">
          <address><ip>192.0.2.2</ip><prefix-length>24</prefix-length></address>
          <vrrp xmlns="urn:ietf:params:xml:ns:yang:ietf-vrrp">
            <vrrp-instance>
              <vrid>7</vrid><version xmlns:v="urn:ietf:params:xml:ns:yang:ietf-vrrp">v:vrrp-v2</version>
              <priority>90</priority>
              <virtual-ipv4-addresses><virtual-ipv4-address>
                <ipv4-address>192.0.2.1</ipv4-address>
              </virtual-ipv4-address></virtual-ipv4-addresses>
            </vrrp-instance>
          </vrrp>
        </ipv4>
      </interface></interfaces>
    </data>"""
    (only,) = routers_of(network_of(r=text))
    assert (only.identifier, only.version, only.priority, only.addresses) == (7, 2, 90, addresses("192.0.2.1"))


def test_what_cannot_be_is_refused_in_its_place():
    (wrong,) = refusals(r=router(instance(1, "192.0.2.1", priority=300)))
    assert wrong.startswith("r.json:") and "1 to 254" in wrong
    assert any(
        "entry" in one and "twice" in one
        for one in refusals(r=router(instance(1, "192.0.2.1"), instance(1, "192.0.2.1")))
    )


def test_openconfig_groups_of_an_address():
    group = {
        "virtual-router-id": 10,
        "config": {
            "virtual-router-id": 10,
            "virtual-address": ["192.0.2.1"],
            "priority": 120,
            "preempt": True,
            "accept-mode": True,
            "advertisement-interval": 100,
        },
        "state": {"virtual-router-id": 10, "priority": 120, "current-priority": 120},
        "interface-tracking": {"config": {"track-interface": ["eth0"], "priority-decrement": 40}},
    }
    address = {"ip": "192.0.2.2", "config": {"ip": "192.0.2.2", "prefix-length": 24}, "vrrp": {"vrrp-group": [group]}}
    sub = {"index": 0, "openconfig-if-ip:ipv4": {"addresses": {"address": [address]}}}
    entry = {"name": "eth1", "config": {"name": "eth1"}, "subinterfaces": {"subinterface": [sub]}}
    network = network_of(r=openconfig({"name": "eth0", "config": {"name": "eth0"}}, entry))
    (only,) = routers_of(network)
    assert (only.identifier, only.priority, only.preempt, only.accept) == (10, 120, True, True)
    assert only.addresses == addresses("192.0.2.1") and only.tracked == (TrackedInterface("eth0", 40),)
    assert gaps(network, "r") == []


def plain(router: VirtualRouter) -> tuple[object, ...]:
    """All but its place."""
    return (
        router.identifier,
        router.addresses,
        router.version,
        router.priority,
        router.preempt,
        router.accept,
        router.tracked,
        router.tracked_networks,
    )


def test_what_is_written_comes_back_the_same():
    document = lan(
        virtual(priority=120, track=[{"interface": "up", "decrement": 30}, {"interface": "e"}], accept=True),
        virtual(preempt=False, version=2, track=[{"network": "0.0.0.0/0"}]),
    )
    document["devices"]["r1"]["interfaces"]["e"]["addresses"].append("2001:db8::2/64")
    document["devices"]["r1"]["interfaces"]["e"]["virtual_routers"].append(
        {
            "id": 10,
            "addresses": ["fe80::1", "2001:db8::1"],
            "track": [{"network": "2001:db8:9::/48", "decrement": 40}, {"interface": "up"}],
        }
    )
    before, after, written = read_back({"network.json": json.dumps(document).encode()})
    for name in ("r1", "r2"):
        networks = before.network, after.network
        told = [[plain(one) for one in routers_of(network, name, "e")] for network in networks]
        assert told[0] == told[1] != []
    # All of it stands in the model, and nothing in what no model says.
    assert "virtual_routers" not in written["r1.json"]


def test_a_tracked_network_is_an_edit_by_its_prefix():
    def tracking(*networks: dict[str, Any]) -> dict[str, Any]:
        return router(instance(1, "192.0.2.1", track={"networks": {"network": list(networks)}}))

    was = {"prefix": "0.0.0.0/0", "priority-decrement": 20}
    found = list(edits_between(tracking(was), tracking({**was, "priority-decrement": 30}, {"prefix": "10.0.0.0/8"})))
    assert sorted((edit.operation, edit.path.rpartition("/track/")[2]) for edit in found) == [
        ("create", "networks/network=10.0.0.0%2F8"),
        ("replace", "networks/network=0.0.0.0%2F0/priority-decrement"),
    ]


def test_a_changed_priority_is_an_edit_of_its_instance():
    old = router(instance(1, "192.0.2.1", priority=120))
    new = copy.deepcopy(old)
    interface = new["ietf-interfaces:interfaces"]["interface"][1]
    interface["ietf-ip:ipv4"]["ietf-vrrp:vrrp"]["vrrp-instance"][0]["priority"] = 90
    (edit,) = edits_between(old, new)
    assert edit.path == (
        "/ietf-interfaces:interfaces/interface=eth1/ietf-ip:ipv4/ietf-vrrp:vrrp/vrrp-instance=1/priority"
    )
