"""Next hops that are somebody's own address (RFC 4271 sections 5.1.3 and 6.3)."""

import pytest

from tests.core.bgp_networks import NET, Net, accept, via
from tests.core.networks import hops, table
from tests.core.test_bgp_contest import why


def by_gateway(net: Net, name: str, gateway: str) -> Net:
    """With a network of a router's own that leads to a gateway."""
    net.origin(name, NET)
    net.devices[name]["routing"]["static"] = [{"prefix": NET, "next_hop": gateway}]
    return net


def on_a_lan(*numbers: int) -> Net:
    """Routers r1, r2, ... on one subnet, each with its AS, and a session of each with the next."""
    net = Net()
    for host, number in enumerate(numbers, 1):
        net.speaker(f"r{host}", number)["interfaces"]["lan"] = {"addresses": [f"192.168.0.{host}/24"]}
    net.links.append([f"r{host}:lan" for host in range(1, len(numbers) + 1)])
    for one in range(1, len(numbers)):
        for own, peer in ((one, one + 1), (one + 1, one)):
            net.bgp(f"r{own}")["neighbors"][f"192.168.0.{peer}"] = {"as": numbers[peer - 1]}
    return net


@pytest.mark.parametrize("number", [64502, 64501], ids=["external", "internal"])
def test_a_route_by_the_peer_itself_is_said_with_the_own_address(number):
    net = by_gateway(on_a_lan(64501, number), "r1", "192.168.0.2")
    solved = net.solve()
    assert hops(solved, table(solved, "r2")[NET]) == ["192.168.0.1@lan"]


def test_a_third_partys_next_hop_is_not_said_to_the_third_party():
    """r2 hears from r1 that r3 is the next hop, and tells r4 so, but not r3."""
    net = by_gateway(on_a_lan(64501, 64502, 64503), "r1", "192.168.0.3")
    net.speaker("r4", 64504)["interfaces"]["lan"] = {"addresses": ["192.168.0.4/24"]}
    net.links[0].append("r4:lan")
    net.bgp("r2")["neighbors"]["192.168.0.4"] = {"as": 64504}
    net.bgp("r4")["neighbors"]["192.168.0.2"] = {"as": 64502}
    solved = net.solve()
    assert hops(solved, table(solved, "r2")[NET]) == ["192.168.0.3@lan"]
    assert hops(solved, table(solved, "r4")[NET]) == ["192.168.0.3@lan"]
    assert hops(solved, table(solved, "r3")[NET]) == ["192.168.0.2@lan"]
    net.bgp("r2")["neighbors"]["192.168.0.4"]["next_hop_self"] = True
    solved = net.solve()
    assert hops(solved, table(solved, "r4")[NET]) == ["192.168.0.2@lan"]


def said_with(next_hop: str) -> Net:
    """``border`` says a network to ``core`` inside its AS with some next hop."""
    net = Net()
    for name in ("border", "core"):
        net.speaker(name, 64500)
    net.cable("border", "core", 1)
    net.origin("border", NET)
    net.inside("border", "core", {"export": net.policy("border", "out", accept(next_hop=next_hop))})
    return net


def test_a_path_with_the_receivers_own_address_is_not_taken():
    solved = said_with("10.0.0.2").solve()
    assert via(solved, "core") is None
    (one,) = why(solved, "core")["candidates"]
    assert one["out"] == "its next hop 10.0.0.2 is this router's own address (RFC 4271 section 6.3)"


def test_a_path_is_taken_while_the_address_is_another_routers():
    net = said_with("172.16.9.9")
    core = net.devices["core"]
    core["interfaces"]["own"] = {"addresses": ["172.16.9.9/24"], "enabled": False}
    assert via(net.solve(), "core") is None  # nothing leads there
    core["interfaces"]["other"] = {"addresses": ["172.16.9.1/24"]}
    assert via(net.solve(), "core") == ["other"]
    del core["interfaces"]["other"]
    core["interfaces"]["own"]["enabled"] = True
    assert "own address" in why(net.solve(), "core")["candidates"][0]["out"]


def test_a_path_that_the_table_leaves_aside_is_not_said_to_have_been_sent():
    """The neighbour says the network of its own, whose static route its table uses, and not its best path."""
    net = Net()
    for name, number in (("far", 64501), ("near", 64502), ("me", 64503)):
        net.speaker(name, number)
    net.origin("far", NET)
    net.origin("near", NET)
    net.session("far", "near", None, {"weight": 10})
    net.session("near", "me")
    answer = why(net.solve(), "me")
    assert [one["value"] for one in answer["candidates"][0]["attributes"] if one["name"] == "AS path"] == ["64502"]
    assert [one["reason"] for one in answer["unsent"]] == [
        "the table of near uses another protocol's route, so BGP says its own path alone"
    ]


def test_a_link_local_next_hop_that_others_have_too_is_not_the_own():
    """Every interface may have fe80::1: what it is depends on the link."""
    net = on_a_lan(64501, 64502)
    for name in ("r1", "r2"):
        net.devices[name]["interfaces"]["lan"]["addresses"] += ["fe80::1/64"]
    solved = net.solve()
    for instance in (0, 1):
        assert [str(one) for one in solved.topology.addresses_of(instance) if one.family == 6] == []
