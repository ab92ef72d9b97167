"""Static and observed routes: resolution, floating, discards; the contract's rules one by one."""

from routrel.model.fields import replace
from routrel.solving import solve
from tests.core.networks import hops, load, router, table


def one(routing: str, interfaces: dict[str, str] | None = None):
    interfaces = interfaces or {"e1": "addresses: [10.0.0.1/24]", "e2": "addresses: [10.0.1.1/24]"}
    return load("devices:\n" + router("a", interfaces, routing))


def static(*entries: str) -> str:
    return "static:\n" + "\n".join(f"- {{{entry}}}" for entry in entries)


def reasons(solved) -> list[str]:
    solved.table(0)
    return [reason for _, reason in solved.unresolved[0]]


def test_connected_subnets_have_a_local_host_route_and_loopbacks_do_not():
    routes = table(one("", {"e1": "addresses: [10.0.0.1/24]", "lo": "addresses: [10.9.9.9/32]"}), "a")
    assert {prefix: route.protocol for prefix, route in routes.items()} == {
        "10.0.0.0/24": "connected",
        "10.0.0.1/32": "local",
        "10.9.9.9/32": "connected",
    }


def test_a_next_hop_resolves_through_other_routes_recursively():
    solved = one(
        static(
            "prefix: 10.9.0.0/16, next_hop: 10.8.0.1",
            "prefix: 10.8.0.0/16, next_hop: 10.7.0.1",
            "prefix: 10.7.0.0/16, next_hop: 10.0.0.2",
        )
    )
    assert hops(solved, table(solved, "a")["10.9.0.0/16"]) == ["10.0.0.2@e1"]


def test_a_next_hop_may_resolve_by_the_default_but_not_through_itself():
    solved = one(static("prefix: 0.0.0.0/0, next_hop: 10.0.0.2", "prefix: 10.9.0.0/16, next_hop: 192.0.2.1"))
    assert hops(solved, table(solved, "a")["10.9.0.0/16"]) == ["10.0.0.2@e1"]
    itself = one(static("prefix: 0.0.0.0/0, next_hop: 10.0.0.2", "prefix: 10.9.0.0/16, next_hop: 10.9.0.1"))
    assert "10.9.0.0/16" not in table(itself, "a")
    assert "only through the route itself" in reasons(itself)[0]


def test_two_routes_that_carry_each_other_carry_nothing():
    solved = one(static("prefix: 10.8.0.0/16, next_hop: 10.9.0.1", "prefix: 10.9.0.0/16, next_hop: 10.8.0.1"))
    assert not {"10.8.0.0/16", "10.9.0.0/16"} & set(table(solved, "a"))
    assert len(reasons(solved)) == 2


def test_a_floating_route_waits_for_a_lower_preference_to_go():
    floating = static("prefix: 0.0.0.0/0, next_hop: 10.0.0.2", "prefix: 0.0.0.0/0, next_hop: 10.0.1.2, preference: 50")
    assert hops(one(floating), table(one(floating), "a")["0.0.0.0/0"]) == ["10.0.0.2@e1"]
    down = one(floating, {"e1": "addresses: [10.0.0.1/24], enabled: false", "e2": "addresses: [10.0.1.1/24]"})
    route = table(down, "a")["0.0.0.0/0"]
    assert (hops(down, route), route.preference) == (["10.0.1.2@e2"], 50)
    assert "the next hop 10.0.0.2" in reasons(down)[0]


def test_equal_routes_form_equal_cost_ways_and_a_lower_metric_wins():
    equal = one(static("prefix: 10.9.0.0/16, next_hop: 10.0.0.2", "prefix: 10.9.0.0/16, next_hop: 10.0.1.2"))
    assert hops(equal, table(equal, "a")["10.9.0.0/16"]) == ["10.0.0.2@e1", "10.0.1.2@e2"]
    lower = one(static("prefix: 10.9.0.0/16, next_hop: 10.0.0.2, metric: 5", "prefix: 10.9.0.0/16, next_hop: 10.0.1.2"))
    assert hops(lower, table(lower, "a")["10.9.0.0/16"]) == ["10.0.1.2@e2"]


def test_discards_rejects_and_routes_to_an_interface():
    solved = one(
        static(
            "prefix: 10.1.0.0/16, action: discard",
            "prefix: 10.2.0.0/16, action: reject, tag: 7",
            "prefix: 10.3.0.0/16, interface: e2",
            "prefix: 10.4.0.0/16, interface: e2, next_hop: 192.0.2.1",
            "prefix: 10.5.0.0/16, next_hop: 10.1.0.1",
        )
    )
    routes = table(solved, "a")
    assert routes["10.1.0.0/16"].action == "discard"
    assert (routes["10.2.0.0/16"].action, routes["10.2.0.0/16"].tag) == ("reject", 7)
    assert hops(solved, routes["10.3.0.0/16"]) == ["itself@e2"]
    assert hops(solved, routes["10.4.0.0/16"]) == ["192.0.2.1@e2"]
    assert routes["10.5.0.0/16"].action == "discard"  # what carries its next hop discards


def test_its_own_address_is_no_next_hop_and_a_down_interface_no_way():
    own = one(static("prefix: 10.9.0.0/16, next_hop: 10.0.0.1"))
    assert "an address of the device itself" in reasons(own)[0]
    down = one(static("prefix: 10.3.0.0/16, interface: e2"), {"e2": "enabled: false"})
    assert "a:e2 is down: it is disabled" in reasons(down)[0]


def test_preferences_decide_between_protocols():
    text = "devices:\n" + router(
        "a",
        {"e1": "addresses: [10.0.0.1/30]"},
        "PREFER\nstatic: [{prefix: 10.255.0.2/32, action: discard}]\nospf: {areas: {0: {interfaces: {e1: {}}}}}",
    )
    text += router(
        "b",
        {"lo": "addresses: [10.255.0.2/32]", "e1": "addresses: [10.0.0.2/30]"},
        "ospf: {areas: {0: {interfaces: {lo: {}, e1: {}}}}}",
    )
    text += "links: [[a:e1, b:e1]]\n"
    assert table(load(text.replace("PREFER\n      ", "")), "a")["10.255.0.2/32"].protocol == "static"
    swapped = load(text.replace("PREFER", "preferences: {static: 200}"))
    assert table(swapped, "a")["10.255.0.2/32"].protocol == "ospf"


OBSERVED = """
    observed:
    - {prefix: 10.0.0.0/24, protocol: connected, next_hops: [{interface: e1}]}
    - {prefix: 10.9.0.0/16, protocol: bgp, next_hops: [{address: 10.8.0.1}], preference: 20}
    - {prefix: 10.8.0.0/16, protocol: ospf, next_hops: [{address: 10.0.0.2}], metric: 30}
    - {prefix: 10.8.0.0/16, protocol: observed, next_hops: [{address: 10.0.0.3, interface: e1}], metric: 5}
    - {prefix: 10.7.0.0/16, next_hops: [{address: 192.0.2.1}]}
    - {prefix: 10.6.0.0/16, action: reject}
"""


def test_a_device_without_routing_forwards_by_its_observed_routes_alone():
    solved = load(
        "devices:\n  a:\n    interfaces: {e1: {addresses: [10.0.0.1/24]}, e2: {addresses: [10.0.5.1/24]}}" + OBSERVED
    )
    routes = table(solved, "a")
    assert set(routes) == {"10.0.0.0/24", "10.9.0.0/16", "10.8.0.0/16", "10.6.0.0/16"}
    assert hops(solved, routes["10.9.0.0/16"]) == ["10.0.0.3@e1"]
    assert routes["10.8.0.0/16"].metric == 5
    assert "no route to the next hop 192.0.2.1" in reasons(solved)[0]


def test_with_routing_the_computed_table_forwards():
    text = "devices:\n  a:\n    routing: {}\n    interfaces: {e1: {addresses: [10.0.0.1/24]}}" + OBSERVED
    assert set(table(load(text), "a")) == {"10.0.0.0/24", "10.0.0.1/32"}


def test_a_connected_route_stands_again_where_the_static_one_in_its_place_leads_through_itself():
    solved = load("""
devices:
  a:
    interfaces: {e: {addresses: [10.0.0.1/24]}}
    routing: {preferences: {connected: 10}, static: [{prefix: 10.0.0.0/24, next_hop: 10.0.0.7}]}
""")
    (route, _) = solved.table(0)
    assert (route.protocol, route.preference) == ("connected", 10)
    ((_, reason),) = solved.unresolved[0]
    assert reason == "the next hop 10.0.0.7 resolves only through the route itself"


def test_what_it_came_to_before_holds_while_next_hops_lead_where_they_led():
    def between(name: str, costs: tuple[int, int], addresses: tuple[str, str], more: str = "") -> str:
        ends = ("e1", "e2")
        stands = ", ".join(f"{end}: {{cost: {cost}}}" for end, cost in zip(ends, costs, strict=True))
        interfaces = {end: f"addresses: [{address}/30]" for end, address in zip(ends, addresses, strict=True)}
        interfaces["lo"] = f"addresses: [10.255.0.{ord(name)}/32]"
        return router(name, interfaces, f"ospf: {{areas: {{0: {{interfaces: {{{stands}, lo: {{}}}}}}}}}}\n{more}")

    asking = static("prefix: 10.9.0.0/16, next_hop: 10.255.0.122", "prefix: 10.8.0.0/16, next_hop: 10.9.0.1")
    devices = between("a", (1, 5), ("10.0.1.1", "10.0.2.1"), asking) + between("z", (1, 1), ("10.0.3.2", "10.0.4.2"))
    devices += between("m", (1, 1), ("10.0.1.2", "10.0.3.1")) + between("n", (1, 1), ("10.0.2.2", "10.0.4.1"))
    cables = '[["a:e1", "m:e1"], ["a:e2", "n:e1"], ["m:e2", "z:e1"], ["n:e2", "z:e2"]]'
    base = load(f"devices:\n{devices}links: {cables}")

    def without(*numbers: int):
        links = base.network.links
        return replace(
            base.network, links=tuple(replace(one, enabled=at not in numbers) for at, one in enumerate(links))
        )

    def led(solved) -> list[list[str]]:
        return [hops(solved, table(solved, "a")[prefix]) for prefix in ("10.9.0.0/16", "10.8.0.0/16")]

    assert led(base) == [["10.0.1.2@e1"]] * 2
    assert led(solve(without(2), base)) == [["10.0.2.2@e2"]] * 2
    apart = solve(without(2, 3), base)
    assert {"10.9.0.0/16", "10.8.0.0/16"}.isdisjoint(table(apart, "a")) and len(reasons(apart)) == 2
    again = solve(base.network, apart)
    assert led(again) == led(base) and reasons(again) == []
