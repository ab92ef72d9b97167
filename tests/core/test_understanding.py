"""What was understood of an input, as the page that a network begins with has it."""

from routrel.analysis.understanding import understanding
from routrel.formats.sources import read_files
from routrel.model.devices import Gap
from routrel.model.places import Place
from routrel.solving import solve
from tests.core.model_documents import files_of, ietf, ietf_interface
from tests.core.networks import load

TEXT = """
devices:
  a:
    interfaces: {e0: {addresses: [10.0.0.1/30]}, e1: {addresses: [10.0.1.1/30, "2001:db8::1/64"]}}
    acls: {none: []}
    routing:
      static:
      - {prefix: 192.0.2.0/24, next_hop: 10.0.1.2}
      - {prefix: 198.51.100.0/24, next_hop: 10.0.1.2}
      - {prefix: 203.0.113.0/24, next_hop: 10.0.0.2}
      ospf: {areas: {0: {interfaces: {e0: {}}}}}
      bgp: {as: 64500, neighbors: {10.0.1.2: {as: 64501}, 10.0.0.2: {as: 64502}, 10.0.0.3: {as: 64503, enabled: false}}}
  b:
    kind: firewall
    interfaces: {e0: {addresses: [10.0.0.2/30]}}
    routing: {ospf: {areas: {0: {interfaces: {e0: {}}}}}}
  h: {kind: host, interfaces: {e0: {enabled: false}}}
links: [[a:e0, b:e0]]
"""


def test_counts_are_by_kind_and_protocol():
    found = understanding(load(TEXT))
    assert {kind.kind: kind.count for kind in found.devices} == {"router": 1, "firewall": 1, "host": 1}
    assert {one.protocol: (one.instances, one.spoken) for one in found.protocols} == {
        "ospf": (2, 2),
        "bgp": (1, 3),
        "static": (1, 3),
    }
    assert (found.links, found.links_down, found.interfaces, found.addresses, found.acls) == (1, 0, 4, 4, 1)


def test_knowledge_ends_at_neighbours_and_next_hops_that_nobody_has():
    ends = understanding(load(TEXT)).open_ends
    assert [(end.device, end.what) for end in ends] == [
        ("a", "BGP neighbour 10.0.1.2 of AS 64501"),
        ("a", "next hop 10.0.1.2 of 2 static routes"),
    ]
    assert all(end.place for end in ends)


def test_a_long_list_is_cut_and_counted(monkeypatch):
    monkeypatch.setattr("routrel.analysis.understanding.MOST_LISTED", 1)
    found = understanding(load(TEXT))
    assert (len(found.open_ends), found.open_ends_count) == (1, 2)


def test_a_gap_is_said_once_with_its_count():
    network = load(TEXT).network
    gap = Gap("chain x is not represented", Place("c.json", 1, 1))
    for name in ("a", "b"):
        object.__setattr__(network.devices[name], "gaps", (gap, gap))
    (found,) = understanding(solve(network)).not_represented
    assert (found.count, found.devices) == (4, ["a", "b"])


def test_devices_by_how_they_came_in_and_how_much_of_their_documents_is_in_the_model():
    odd = ietf(ietf_interface("e1", "10.0.0.1/30", **{"acme:knob": 1}))
    table = "prefix,next_hop,interface\n10.0.0.0/30,,up\n192.0.2.0/24,10.0.0.2,up\n198.51.100.0/24,10.0.0.9,up\n"
    files = files_of({"odd": odd, "plain": ietf(ietf_interface("e1", "10.0.0.2/30"))}) | {"edge.csv": table.encode()}
    found = understanding(solve(read_files(files)))
    assert {one.kind: one.count for one in found.known_by} == {"models": 2, "table": 1}
    assert [(one.device, one.statements, one.not_represented) for one in found.by_documents] == [("odd", 6, 1)]
    assert (found.by_documents_count, found.whole_count) == (1, 1)
    assert [(one.address, one.sessions, one.routes, one.devices) for one in found.add_first] == [
        ("10.0.0.9", 0, 1, ["edge"])
    ]
    assert ("edge", "next hop 10.0.0.9 of the route read off it to 198.51.100.0/24") in [
        (end.device, end.what) for end in found.open_ends
    ]


def test_three_in_a_subnet_for_two_are_in_doubt_unless_a_link_says_who_is_cabled():
    text = (
        "devices: {"
        + ", ".join(
            f"{name}: {{interfaces: {{e0: {{addresses: [10.0.0.{n}/29]}}, e1: {{addresses: [10.0.1.{n}/30]}}}}}}"
            for n, name in enumerate("abc", 1)
        )
        + "}"
    )
    text = text.replace("10.0.1.3/30", "10.0.1.2/30")
    (end,) = understanding(load(text)).open_ends
    assert (
        end.what
        == "10.0.1.0/30 is a subnet for two, and a:e1, b:e1, c:e1 are in it: no link says which of them are cabled"
    )
    # b and c have the same address there: they are not each other's.
    assert [offer.label for offer in end.offers] == ["a:e1 – b:e1", "a:e1 – c:e1"]
    assert end.offers[0].change == {"add": "link", "at": "a:e1", "to": "b:e1"}
    head, _, tail = text.rpartition("addresses")
    named = f"{head}description: to a e1, addresses{tail}"
    assert [offer.label for offer in understanding(load(named)).open_ends[0].offers] == ["a:e1 – c:e1", "a:e1 – b:e1"]
    assert understanding(load(text + "\nlinks: [[a:e1, b:e1]]\n")).open_ends == []


def test_a_subnet_for_two_with_one_end_is_open():
    found = understanding(
        load("devices: {a: {interfaces: {e0: {addresses: [10.0.0.1/30]}, e1: {addresses: [10.0.1.1/24]}}}}")
    )
    assert [(end.device, end.what) for end in found.open_ends] == [
        ("a", "e0: nobody else is in 10.0.0.0/30, a subnet for two")
    ]


def test_a_description_names_the_other_end_of_a_cable():
    """Addresses of which one was mistyped: nobody is in either's subnet, and one says where it leads."""
    ends = "a: {interfaces: {e0: {addresses: [10.0.0.1/30], description: SAID}}}, b: {interfaces: {"
    text = f"devices: {{{ends}x: {{addresses: [10.0.4.2/30]}}, y: {{addresses: [10.0.8.2/30]}}}}}}}}"
    for said, expected in (
        ("to b port y", ["a:e0 – b:y", "a:e0 – b:x"]),
        ("to b", ["a:e0 – b:x", "a:e0 – b:y"]),
        ("to bb", []),
        ("", []),
    ):
        found = understanding(load(text.replace("SAID", f"'{said}'"))).open_ends
        assert [offer.label for end in found if end.device == "a" for offer in end.offers] == expected


def test_very_many_open_ends_are_told_in_one_look_at_each():
    """Every interface names a device, and so would have been held against every other."""
    devices = ", ".join(
        f"d{n}: {{interfaces: {{e: {{addresses: [10.{n >> 6}.{(n & 63) << 2}.1/30], description: to d{n ^ 1} e}}}}}}"
        for n in range(4000)
    )
    found = understanding(load(f"devices: {{{devices}}}"))
    assert found.open_ends_count == 4000
    assert [offer.label for offer in found.open_ends[0].offers] == ["d0:e – d1:e"]
