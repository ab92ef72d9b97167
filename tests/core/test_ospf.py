"""A small example for each rule of RFC 2328 that is computed with; sections are the RFC's."""

from routrel.routing.neighbors import router_id
from tests.core.networks import hops, load, router, table


def ospf(areas: str, more: str = "") -> str:
    return f"ospf: {{areas: {areas}{more}}}"


def pair(first: str, second: str, first_interface: str = "", second_interface: str = "") -> str:
    """Two routers on one cable with a loopback each; the arguments are e1's OSPF settings."""
    text = "devices:\n"
    for name, last, settings, interface in (("a", 1, first, first_interface), ("b", 2, second, second_interface)):
        text += router(
            name,
            {"lo": f"addresses: [10.255.0.{last}/32]", "e1": f"addresses: [10.0.0.{last}/30]{interface}"},
            ospf(f"{{0: {{interfaces: {{lo: {{}}, e1: {{{settings}}}}}}}}}"),
        )
    return text + "links: [[a:e1, b:e1]]\n"


def problems(text: str) -> list[str]:
    return [finding.message for finding in load(text).findings]


def test_cost_belongs_to_the_outgoing_interface():
    solved = load(pair("cost: 7", "cost: 30"))
    assert table(solved, "a")["10.255.0.2/32"].metric == 7
    assert table(solved, "b")["10.255.0.1/32"].metric == 30


def test_default_cost_and_reference_bandwidth():
    assert table(load(pair("", "")), "a")["10.255.0.2/32"].metric == 10
    text = pair("", "", ", bandwidth: 100M").replace("ospf: {", "ospf: {reference_bandwidth: 10G, ", 1)
    assert table(load(text), "a")["10.255.0.2/32"].metric == 100
    fast = text.replace("100M", "40G")
    assert table(load(fast), "a")["10.255.0.2/32"].metric == 1


def test_12_4_1_3_a_loopback_is_a_host_route_at_cost_0():
    text = pair("cost: 5", "cost: 5").replace("10.255.0.2/32", "10.9.9.1/24")
    solved = load(text)
    assert table(solved, "a")["10.9.9.1/32"].metric == 5
    assert "10.9.9.0/24" not in table(solved, "a")


def test_a_passive_interface_is_advertised_but_has_no_neighbours():
    solved = load(pair("passive: true", ""))
    assert "10.255.0.2/32" not in table(solved, "a")
    assert not solved.findings


def test_10_5_neighbours_must_agree_on_area_type_and_subnet():
    other_area = pair("", "").replace("{0: {interfaces: {lo", "{1: {interfaces: {lo", 1)
    assert "area 0.0.0.1 against area 0.0.0.0" in problems(other_area)[0]
    assert "network type broadcast against point-to-point" in problems(pair("network: broadcast", ""))[0]
    mask = pair("network: broadcast", "network: broadcast").replace("10.0.0.2/30", "10.0.0.2/29")
    assert "subnet 10.0.0.0/30 against 10.0.0.0/29" in problems(mask)[0]
    same_id = pair("", "").replace("ospf:", "router_id: 1.1.1.1\n      ospf:")
    assert "both have the router id 1.1.1.1" in problems(same_id)[0]
    for text in (other_area, mask, same_id):
        assert "10.255.0.2/32" not in table(load(text), "a")


def test_8_2_point_to_point_links_do_not_compare_subnets():
    text = pair("", "").replace("10.0.0.2/30", "10.0.7.2/30")
    solved = load(text)
    assert hops(solved, table(solved, "a")["10.255.0.2/32"]) == ["10.0.7.2@e1"]


def test_9_4_without_a_designated_router_there_is_no_network():
    both = pair("network: broadcast, priority: 0", "network: broadcast, priority: 0")
    assert "priority above 0" in problems(both)[0]
    one = pair("network: broadcast, priority: 0", "network: broadcast")
    assert "10.255.0.2/32" in table(load(one), "a")


def test_an_acl_that_cuts_ospf_cuts_the_adjacency():
    text = pair("", "", ", acl_in: edge")
    acl = "\n    acls: {edge: [{action: accept, protocol: tcp}]}\n  b:"
    cut = text.replace("\n  b:", acl)
    assert "ACL edge of a drops OSPF packets to 224.0.0.5 (its closing drop)" in problems(cut)[0]
    assert "10.255.0.2/32" not in table(load(cut), "a")
    assert not problems(cut.replace("protocol: tcp", "protocol: 89"))
    # Section 8.1: on a point-to-point network multicast is enough, on a broadcast network it is not.
    multicast = cut.replace("protocol: tcp", "protocol: 89, destination: 224.0.0.5/32")
    assert not problems(multicast)
    assert "to 10.0.0.1 (its closing drop)" in problems(multicast.replace("e1: {}", "e1: {network: broadcast}"))[0]


def test_an_interface_without_ipv4_is_reported():
    text = pair("", "").replace("addresses: [10.0.0.1/30]", "addresses: ['2001:db8::1/64']")
    assert "has no IPv4 address" in problems(text)[0]


LAN = "devices:\n" + "".join(
    router(
        name,
        {"lo": f"addresses: [10.255.0.{n}/32]", "e1": f"addresses: [10.0.0.{n}/24]"},
        ospf(f"{{0: {{interfaces: {{lo: {{}}, e1: {{cost: {cost}}}}}}}}}"),
    )
    for n, (name, cost) in enumerate([("a", 5), ("b", 20), ("c", 30)], start=1)
)


def test_16_1_a_broadcast_network_costs_nothing_on_the_way_back():
    solved = load(LAN)
    assert table(solved, "a")["10.255.0.3/32"].metric == 5
    assert table(solved, "c")["10.255.0.1/32"].metric == 30
    assert hops(solved, table(solved, "a")["10.255.0.3/32"]) == ["10.0.0.3@e1"]


def test_equal_costs_are_kept_side_by_side_up_to_the_limit():
    text = "devices:\n"
    for name, number in (("a", 1), ("b", 2)):
        interfaces = {f"e{i}": f"addresses: [10.0.{i}.{number}/30]" for i in (1, 2, 3)}
        text += router(
            name,
            {"lo": f"addresses: [10.255.0.{number}/32]", **interfaces},
            ospf("{0: {interfaces: {lo: {}, e1: {}, e2: {}, e3: {cost: 11}}}}"),
        )
    text += "links: [[a:e1, b:e1], [a:e2, b:e2], [a:e3, b:e3]]\n"
    solved = load(text)
    assert hops(solved, table(solved, "a")["10.255.0.2/32"]) == ["10.0.1.2@e1", "10.0.2.2@e2"]
    one = load(text.replace("areas:", "multipath: 1, areas:", 1))
    assert hops(one, table(one, "a")["10.255.0.2/32"]) == ["10.0.1.2@e1"]
    preferred = load(text.replace("ospf:", "preferences: {ospf: 30}\n      ospf:", 1))
    assert table(preferred, "a")["10.255.0.2/32"].preference == 30


def chain(*areas: int, ranges: str = "") -> str:
    """Routers r0, r1, … in a row, the cable between r(i) and r(i+1) in areas[i]; loopbacks with the first."""
    text, links = "devices:\n", []
    for i in range(len(areas) + 1):
        interfaces = {"lo": f"addresses: [10.{i}.0.1/32]"}
        members: dict[int, list[str]] = {areas[max(0, i - 1)]: ["lo: {}"]}
        if i:
            interfaces["e1"] = f"addresses: [172.16.{i - 1}.2/30]"
            members.setdefault(areas[i - 1], []).append("e1: {}")
            links.append(f"[r{i - 1}:e2, r{i}:e1]")
        if i < len(areas):
            interfaces["e2"] = f"addresses: [172.16.{i}.1/30]"
            members.setdefault(areas[i], []).append("e2: {}")
        shown = ", ".join(
            f"{area}: {{interfaces: {{{', '.join(names)}}}{ranges if area == 1 and i == 1 else ''}}}"
            for area, names in members.items()
        )
        text += router(f"r{i}", interfaces, ospf(f"{{{shown}}}"))
    return text + f"links: [{', '.join(links)}]\n"


def test_16_2_routes_of_other_areas_come_by_the_backbone():
    solved = load(chain(1, 0, 2))
    route = table(solved, "r3")["10.0.0.1/32"]
    assert (route.metric, route.origin) == (30, "inter-area")
    assert table(solved, "r1")["10.0.0.1/32"].origin == "intra-area"


def test_3_3_areas_that_meet_outside_the_backbone_exchange_only_their_own():
    # r1 joins areas 1 and 2, r2 joins 2 and 3: what r1 tells into area 2 is not passed on by r2.
    solved = load(chain(1, 2, 3))
    assert "10.0.0.1/32" in table(solved, "r1")
    assert "10.0.0.1/32" not in table(solved, "r3")


def test_16_2_a_border_router_listens_to_the_backbone_only():
    solved = load(chain(0, 1, 0))
    # r1 and r2 both border area 1; the two halves of the backbone are apart: that is a broken network.
    assert "10.3.0.1/32" not in table(solved, "r0")


def test_16_an_intra_area_route_wins_over_a_cheaper_inter_area_one():
    # r0 and r2 both bring 10.9.9.9/32: r0 within area 1 at a high cost, r2 by the backbone at a low one.
    text = chain(1, 1, 0).replace("10.0.0.1/32", "10.9.9.9/32").replace("10.3.0.1/32", "10.9.9.9/32")
    solved = load(text.replace("e1: {}", "e1: {cost: 500}", 1))
    route = table(solved, "r1")["10.9.9.9/32"]
    assert (route.origin, route.metric) == ("intra-area", 500)


RANGE = ", ranges: [{prefix: 10.0.0.0/16}]"


def test_12_4_3_an_active_range_replaces_what_it_holds():
    solved = load(chain(1, 0, ranges=RANGE))
    backbone = table(solved, "r2")
    assert backbone["10.0.0.0/16"].metric == 20
    assert "10.0.0.1/32" not in backbone
    assert "172.16.0.0/30" in backbone


def test_11_1_a_border_holds_a_discard_route_for_its_range():
    solved = load(chain(1, 0, ranges=RANGE))
    route = table(solved, "r1")["10.0.0.0/16"]
    assert (route.action, route.origin) == ("discard", "range")
    assert route.place.line > 0
    assert table(solved, "r1")["10.0.0.1/32"].action == "forward"


def test_12_4_3_a_range_may_hide_its_networks_or_state_its_cost():
    hidden = table(load(chain(1, 0, ranges=", ranges: [{prefix: 10.0.0.0/16, advertise: false}]")), "r2")
    assert "10.0.0.0/16" not in hidden
    assert "10.0.0.1/32" not in hidden
    stated = load(chain(1, 0, ranges=", ranges: [{prefix: 10.0.0.0/16, cost: 77}]"))
    assert table(stated, "r2")["10.0.0.0/16"].metric == 87


def test_12_4_3_a_range_costs_as_much_as_its_farthest_network():
    text = chain(1, 1, 0).replace(
        "{1: {interfaces: {lo: {}, e1: {}}}, 0:",
        "{1: {interfaces: {lo: {}, e1: {}}, ranges: [{prefix: 10.0.0.0/14}]}, 0:",
    )
    solved = load(text)
    assert table(solved, "r2")["10.0.0.0/14"].action == "discard"
    assert table(solved, "r3")["10.0.0.0/14"].metric == 10 + 20


def test_a_range_without_networks_is_not_active():
    solved = load(chain(1, 0, ranges=", ranges: [{prefix: 192.168.0.0/16}]"))
    assert "192.168.0.0/16" not in table(solved, "r1")
    assert "192.168.0.0/16" not in table(solved, "r2")


def test_the_router_id_is_configured_or_the_highest_loopback_or_the_highest_address():
    text = "devices:\n" + router("a", {"lo": "addresses: [10.0.0.1/32]", "e1": "addresses: [10.9.0.1/24]"})
    assert str(router_id(load(text).topology, 0)) == "10.0.0.1"
    without = text.replace("10.0.0.1/32", "'2001:db8::1/128'")
    assert str(router_id(load(without).topology, 0)) == "10.9.0.1"
