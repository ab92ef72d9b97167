"""External routes, stub areas and NSSAs: a small example for each rule."""

from tests.core.networks import errors, hops, load, router, table

CHAIN = """
links:
- ["a:e1", "b:e1"]
- ["b:e2", "c:e1"]
"""


def chain(a: str = "", b: str = "", c: str = "", area: str = "0", extra: str = "", kind: str = "") -> str:
    """Routers a - b - c: a and b in the backbone, b and c in ``area`` of type ``kind``; cost 10 each."""
    middle = f"ospf: {{areas: {{0: {{interfaces: {{lo: {{}}, e1: {{}}}}}}, {area}: {{{kind}interfaces: {{e2: {{}}}}}}}}"
    if area == "0":
        middle = "ospf: {areas: {0: {interfaces: {lo: {}, e1: {}, e2: {}}}}"
    return (
        "devices:\n"
        + router(
            "a",
            {"lo": "addresses: [10.0.0.1/32]", "e1": "addresses: [10.1.0.1/30]"},
            f"ospf: {{areas: {{0: {{interfaces: {{lo: {{}}, e1: {{}}}}}}}}{a.partition('|')[0]}}}\n{a.partition('|')[2]}",
        )
        + router(
            "b",
            {
                "lo": "addresses: [10.0.0.2/32]",
                "e1": "addresses: [10.1.0.2/30]",
                "e2": "addresses: [10.2.0.1/30]",
            },
            f"{middle}{b.partition('|')[0]}}}\n{b.partition('|')[2]}",
        )
        + router(
            "c",
            {"lo": "addresses: [10.0.0.3/32]", "e1": "addresses: [10.2.0.2/30]"},
            f"ospf: {{areas: {{{area}: {{{kind}interfaces: {{lo: {{}}, e1: {{}}}}}}}}{c.partition('|')[0]}}}\n"
            f"{c.partition('|')[2]}",
        )
        + extra
        + CHAIN
    )


STATIC = ", redistribute: [{from: static%s}]|static: [{prefix: 192.0.2.0/24, action: discard}]"


def test_16_4_type_2_keeps_its_metric_and_type_1_adds_the_way():
    route = table(load(chain(c=STATIC % ", metric: 7")), "a")["192.0.2.0/24"]
    assert (route.origin, route.metric, route.preference) == ("external type 2", 7, 110)
    route = table(load(chain(c=STATIC % ", metric: 7, metric_type: 1, tag: 5")), "a")["192.0.2.0/24"]
    assert (route.origin, route.metric, route.tag) == ("external type 1", 27, 5)


def test_without_a_metric_an_external_route_has_20_of_type_2():
    route = table(load(chain(c=STATIC % "")), "a")["192.0.2.0/24"]
    assert (route.origin, route.metric) == ("external type 2", 20)


def test_16_4_6_type_1_is_preferred_whatever_the_metrics():
    solved = load(chain(a=STATIC % ", metric: 1", c=STATIC % ", metric: 1000, metric_type: 1"))
    assert table(solved, "b")["192.0.2.0/24"].origin == "external type 1"


def test_16_4_6_of_equal_type_2_metrics_the_nearer_router_is_used():
    solved = load(chain(a=STATIC % ", metric: 9", c=STATIC % ", metric: 9").replace("e2: {}", "e2: {cost: 5}"))
    assert hops(solved, table(solved, "b")["192.0.2.0/24"]) == ["10.2.0.2@e2"]


def test_equal_external_routes_of_two_routers_are_merged():
    solved = load(chain(a=STATIC % "", c=STATIC % ""))
    assert hops(solved, table(solved, "b")["192.0.2.0/24"]) == ["10.1.0.1@e1", "10.2.0.2@e2"]


def test_16_4_6_a_route_of_the_system_itself_beats_an_external_one():
    solved = load(chain(a=", redistribute: [{from: static}]|static: [{prefix: 10.0.0.3/32, action: discard}]"))
    assert table(solved, "b")["10.0.0.3/32"].origin == "intra-area"


def test_12_4_4_1_a_next_hop_on_an_ospf_network_is_the_forwarding_address():
    text = chain(
        c=", redistribute: [{from: static, metric_type: 1, metric: 1}]|"
        "static: [{prefix: 192.0.2.0/24, next_hop: 10.2.0.1}]"
    )
    solved = load(text)
    # b is on the network of the forwarding address, which is its own: it has no use for the route.
    assert "192.0.2.0/24" not in table(solved, "b")
    assert table(solved, "a")["192.0.2.0/24"].metric == 10 + 10 + 1
    text = text.replace("next_hop: 10.2.0.1", "next_hop: 10.3.0.9").replace('"e1": "addresses: [10.2.0.2/30]"', "")
    outside = text.replace(
        "      e1: {addresses: [10.2.0.2/30]}",
        "      e1: {addresses: [10.2.0.2/30]}\n      e9: {addresses: [10.3.0.1/24]}",
    )
    assert table(load(outside), "a")["192.0.2.0/24"].metric == 20 + 1
    inside = outside.replace("lo: {}, e1: {}}}}, redistribute", "lo: {}, e1: {}, e9: {passive: true}}}}, redistribute")
    assert table(load(inside), "a")["192.0.2.0/24"].metric == 30 + 1


def test_3_6_no_external_route_enters_a_stub_area_but_a_default_does():
    solved = load(chain(a=STATIC % "", area="1", kind="type: stub, default_cost: 3, "))
    routes = table(solved, "c")
    assert "192.0.2.0/24" not in routes
    assert (routes["0.0.0.0/0"].metric, routes["0.0.0.0/0"].origin) == (13, "inter-area")
    assert "10.0.0.1/32" in routes
    assert "0.0.0.0/0" not in table(solved, "b")


def test_a_totally_stubby_area_has_the_default_alone():
    routes = table(load(chain(area="1", kind="type: stub, no_summary: true, ")), "c")
    assert {p for p, r in routes.items() if r.protocol == "ospf"} == {"0.0.0.0/0"}


def test_a_router_in_a_stub_area_brings_nothing_in():
    solved = load(chain(c=STATIC % "", area="1", kind="type: stub, "))
    assert "192.0.2.0/24" not in table(solved, "b")


def test_rfc_3101_2_3_an_nssa_route_is_translated_with_its_forwarding_address():
    solved = load(chain(c=STATIC % ", metric_type: 1, metric: 1", area="1", kind="type: nssa, "))
    assert table(solved, "b")["192.0.2.0/24"].origin == "NSSA type 1"
    far = table(solved, "a")["192.0.2.0/24"]
    assert (far.origin, far.metric) == ("external type 1", 21)


def test_rfc_3101_3_2_a_range_that_hides_the_forwarding_address_hides_the_route():
    text = chain(c=STATIC % "", area="1", kind="type: nssa, ")
    hidden = text.replace(
        "1: {type: nssa, interfaces: {e2",
        "1: {type: nssa, ranges: [{prefix: 10.0.0.3/32, advertise: false}], interfaces: {e2",
    )
    assert "192.0.2.0/24" in table(load(text), "a")
    assert "192.0.2.0/24" not in table(load(hidden), "a")


def test_an_nssa_gets_a_default_only_where_it_is_asked_for():
    kind = "type: nssa, "
    assert "0.0.0.0/0" not in table(load(chain(area="1", kind=kind)), "c")
    routes = table(load(chain(area="1", kind=kind + "no_summary: true, default_cost: 4, ")), "c")
    assert (routes["0.0.0.0/0"].origin, routes["0.0.0.0/0"].metric) == ("inter-area", 14)
    routes = table(load(chain(b=", originate_default: {always: true, metric: 6}", area="1", kind=kind)), "c")
    assert (routes["0.0.0.0/0"].origin, routes["0.0.0.0/0"].metric) == ("NSSA type 2", 6)


def test_rfc_3101_2_5_3_a_border_does_not_use_the_default_of_another_border():
    """Its P-bit is clear; an internal router's default has it set and is used."""
    solved = load(chain(c=", originate_default: {always: true}", area="1", kind="type: nssa, "))
    assert table(solved, "b")["0.0.0.0/0"].origin == "NSSA type 2"


def test_the_e_and_n_bits_must_agree():
    text = chain(area="1", kind="type: stub, ").replace(
        "1: {type: stub, interfaces: {lo", "1: {type: nssa, interfaces: {lo"
    )
    (finding,) = load(text).findings
    assert "area type stub against nssa" in finding.message


def test_a_default_is_originated_while_the_table_has_one_of_another_source():
    solved = load(chain(c=", originate_default: {metric: 5, metric_type: 1}"))
    assert "0.0.0.0/0" not in table(solved, "a")
    solved = load(
        chain(c=", originate_default: {metric: 5, metric_type: 1}|static: [{prefix: 0.0.0.0/0, action: discard}]")
    )
    assert table(solved, "a")["0.0.0.0/0"].metric == 25
    # A default that is only heard by OSPF is not said again.
    both = chain(
        a=", originate_default: {}|", c=", originate_default: {}|static: [{prefix: 0.0.0.0/0, action: discard}]"
    )
    assert hops(load(both), table(load(both), "b")["0.0.0.0/0"]) == ["10.2.0.2@e2"]


def test_the_backbone_has_no_type():
    (found,) = errors("devices: {a: {routing: {ospf: {areas: {0: {type: stub}}}}}}\n")
    assert "backbone" in found


def test_version_3_carries_ipv6_by_link_local_next_hops():
    text = "devices:\n" + "".join(
        router(
            name,
            {"lo": f"addresses: ['2001:db8::{n}/128']", "e1": f"addresses: ['2001:db8:1::{n}/64'], mac: '{mac}'"},
            f"router_id: 10.0.0.{n}\nospf: {{version: 3, areas: {{0: {{interfaces: {{lo: {{}}, e1: {{cost: 4}}}}}}}}}}",
        )
        for n, (name, mac) in enumerate((("a", "02:00:00:00:00:01"), ("b", "02:00:00:00:00:02")), 1)
    )
    solved = load(text + 'links:\n- ["a:e1", "b:e1"]\n')
    route = table(solved, "a")["2001:db8::2/128"]
    assert (route.metric, hops(solved, route)) == (4, ["fe80::ff:fe00:2@e1"])
    unknown = load(text.replace(", mac: '02:00:00:00:00:02'", "") + 'links:\n- ["a:e1", "b:e1"]\n')
    hop = table(unknown, "a")["2001:db8::2/128"].next_hops[0]
    assert hop.address is None
    assert str(unknown.topology.ports[hop.neighbor].name) == "b:e1"


def test_two_instances_of_one_version_stand_apart_and_pass_routes_by_redistribution():
    text = (
        "devices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/30]", "lo": "addresses: [10.0.0.1/32]"},
            "ospf: {areas: {0: {interfaces: {e1: {}, lo: {}}}}}",
        )
        + router(
            "b",
            {"e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.1/30]"},
            "ospf:\n- {instance: west, areas: {0: {interfaces: {e1: {}}}}}\n"
            "- {instance: east, areas: {0: {interfaces: {e2: {}}}}, redistribute: [{from: ospf, metric: 3}]}",
        )
        + router("c", {"e1": "addresses: [10.2.0.2/30]"}, "ospf: {areas: {0: {interfaces: {e1: {}}}}}")
        + CHAIN
    )
    solved = load(text)
    assert table(solved, "c")["10.0.0.1/32"].origin == "external type 2"
    assert "10.2.0.0/30" not in table(solved, "a")


def test_16_4_3_a_forwarding_address_is_reached_by_its_own_network_and_by_equal_ways():
    """The NSSA's forwarding address is b's on the first of two cables: that cable at 2, the other at 1 + 1."""
    ends = "area: {{1: {{type: nssa, interfaces: {{e1: {{cost: {}}}, e2: {{cost: 1}}}}}}}}"
    text = "devices:\n"
    for name, number, cost, more in (("a", 1, 2, ""), ("b", 2, 1, ", originate_default: {always: true}")):
        interfaces = {"e1": f"addresses: [10.1.2.{3 - number}/30]", "e2": f"addresses: [10.1.1.{number}/30]"}
        areas = ends.format(cost).replace("area:", "areas:")
        text += router(
            name,
            interfaces | {"lo": f"addresses: [10.0.0.{number}/32]"},
            f"ospf: {{{areas}{more}}}",
        )
    solved = load(text + 'links:\n- ["a:e1", "b:e1"]\n- ["a:e2", "b:e2"]\n')
    assert hops(solved, table(solved, "a")["0.0.0.0/0"]) == ["10.1.2.1@e1", "10.1.1.2@e2"]


AROUND = """\
devices:
  r1:
    interfaces: {lo: {addresses: [10.0.0.1/32]}, a: {addresses: [10.9.0.1/30]}, b: {addresses: [10.9.1.1/30]}}
    routing:
      ospf: {areas: {0: {interfaces: {lo: {}, a: {cost: 5}}}, 1: {type: KIND, interfaces: {b: {cost: 1}}}}}
  r2:
    interfaces: {lo: {addresses: [10.0.0.2/32]}, a: {addresses: [10.9.0.2/30]}, c: {addresses: [10.9.2.2/30]}}
    routing:
      static: [{prefix: 192.0.2.0/24, action: discard}]
      ospf:
        areas: {0: {interfaces: {lo: {}, a: {cost: 5}}}, 1: {type: KIND, interfaces: {c: {cost: 1}}}}
        redistribute: [{from: static, metric: 1, metric_type: 1}]
  r4:
    interfaces: {lo: {addresses: [10.0.0.4/32]}, b: {addresses: [10.9.1.2/30]}, c: {addresses: [10.9.2.1/30]}}
    routing: {ospf: {areas: {1: {type: KIND, interfaces: {lo: {}, b: {cost: 1}, c: {cost: 1}}}}}}
links: [[r1:a, r2:a], [r1:b, r4:b], [r4:c, r2:c]]
"""


def test_12_4_1_a_router_brings_nothing_to_whom_it_is_reached_through_a_stub_area():
    """Two real daemons agree on the stub area: the E-bit is never set there, so the dearer way is taken."""
    solved = load(AROUND.replace("KIND", "normal"))
    assert hops(solved, table(solved, "r1")["192.0.2.0/24"]) == ["10.9.1.2@b"]
    assert table(solved, "r1")["192.0.2.0/24"].metric == 3
    solved = load(AROUND.replace("KIND", "stub"))
    assert hops(solved, table(solved, "r1")["192.0.2.0/24"]) == ["10.9.0.2@a"]
    assert table(solved, "r1")["192.0.2.0/24"].metric == 6


def test_an_nssa_is_gone_through_by_its_own_routes_alone():
    """What r2 says to the whole system leads by the backbone; what it says to the NSSA leads through it, for less."""
    solved = load(AROUND.replace("KIND", "nssa"))
    route = table(solved, "r1")["192.0.2.0/24"]
    assert (route.origin, route.metric, hops(solved, route)) == ("NSSA type 1", 3, ["10.9.1.2@b"])
