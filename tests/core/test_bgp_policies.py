"""Every match and every set of the contract on BGP paths: in bulk as in plain code."""

import pytest

from routrel.formats.errors import LoadError
from routrel.routing.bgp import paths as attributes
from routrel.routing.bgp.paths import PathRows, Paths, without_private
from tests.core.bgp_networks import NET, Net, accept, via
from tests.core.networks import errors, solution_of, table
from tests.core.test_bgp_contest import attributes as shown
from tests.core.test_bgp_contest import why

OTHER = "198.51.100.0/24"


def line(statement: dict, out: dict | None = None) -> Net:
    """``origin`` (AS 64501) - ``middle`` (64502) - ``me`` (64500), which imports by one statement."""
    net = Net()
    for name, number in (("origin", 64501), ("middle", 64502), ("me", 64500)):
        net.speaker(name, number)
    net.origin("origin", NET)
    net.session("origin", "middle")
    export = {"export": net.policy("middle", "out", out or accept(med=5, communities={"add": ["64502:1", "64502:2"]}))}
    net.session("middle", "me", export, {"import": net.policy("me", "in", statement)})
    return net


@pytest.mark.parametrize(
    ("match", "holds"),
    [
        ({}, True),
        ({"prefixes": [NET]}, True),
        ({"prefixes": [OTHER]}, False),
        ({"prefixes": [{"prefix": "203.0.0.0/16", "max_length": 24}]}, True),
        ({"prefixes": [{"prefix": "203.0.0.0/16", "min_length": 25}]}, False),
        ({"protocol": "bgp"}, True),
        ({"protocol": ["static", "ospf"]}, False),
        ({"med": 5}, True),
        ({"med": 0}, False),
        ({"metric": 5}, True),
        ({"metric": 6}, False),
        ({"tag": 0}, True),
        ({"tag": 3}, False),
        ({"next_hop": "172.16.2.1"}, True),
        ({"next_hop": ["172.16.2.2", "172.16.2.1"]}, True),
        ({"next_hop": "172.16.2.2"}, False),
        ({"neighbor": "172.16.2.1"}, True),
        ({"neighbor": ["172.16.1.1"]}, False),
        ({"as_path": {"contains": 64501}}, True),
        ({"as_path": {"contains": 64500}}, False),
        ({"as_path": {"starts": 64502}}, True),
        ({"as_path": {"starts": 64501}}, False),
        ({"as_path": {"ends": 64501}}, True),
        ({"as_path": {"ends": 64502}}, False),
        ({"as_path": {"max_length": 2}}, True),
        ({"as_path": {"max_length": 1}}, False),
        ({"as_path": {"min_length": 2, "max_length": 2}}, True),
        ({"as_path": {"min_length": 3}}, False),
        ({"as_path": {"starts": 64502, "ends": 64502}}, False),
        ({"as_path": "^64502 64501$"}, True),
        ({"as_path": "64501"}, True),
        ({"as_path": "^64501"}, False),
        ({"as_path": "(^| )6450[1-3]$"}, True),
        ({"communities": "64502:1"}, True),
        ({"communities": ["64502:9", "64502:2"]}, True),
        ({"communities": "64502:9"}, False),
        ({"communities": {"all": ["64502:1", "64502:2"]}}, True),
        ({"communities": {"all": ["64502:1", "64502:9"]}}, False),
        ({"med": 5, "communities": "64502:9"}, False),
    ],
)
def test_a_match(match, holds):
    net = line({"match": match, "result": "accept"})
    assert (via(net.solve(), "me") is not None) == holds
    net = line({"match": match, "result": "accept"})
    answer = why(net.solve(), "me")
    assert (answer["winner"] is not None) == holds


@pytest.mark.parametrize(
    ("sets", "name", "value"),
    [
        ({"local_preference": 150}, "local preference", "150"),
        ({"weight": 9}, "weight", "9"),
        ({"med": 7}, "MED", "7"),
        ({"metric": 8}, "MED", "8"),
        ({"metric": 8, "med": 7}, "MED", "7"),
        ({"origin": "egp"}, "origin", "egp"),
        ({"as_path_prepend": {"as": 64502}}, "AS path", "64502 64502 64501"),
        ({"as_path_prepend": {"as": 64509, "times": 2}}, "AS path", "64509 64509 64502 64501"),
        ({"communities": {"add": ["64500:3"]}}, "communities", "64500:3, 64502:1, 64502:2"),
        ({"communities": {"remove": ["64502:1"]}}, "communities", "64502:2"),
        ({"communities": {"replace": ["64500:3"]}}, "communities", "64500:3"),
        ({"communities": {"replace": [], "add": ["no-export"]}}, "communities", "no-export"),
        ({"communities": {"add": ["65535:65282"]}}, "communities", "64502:1, 64502:2, no-advertise"),
        ({"next_hop": "172.16.2.1"}, "next hop", "172.16.2.1"),
    ],
)
def test_a_set(sets, name, value):
    solved = line(accept(**sets)).solve()
    candidate = why(solved, "me")["candidates"][0]
    assert shown(candidate)[name] == value
    held = solution_of(solved, "bgp").propagation
    number = held.best[2, solved.prefix_classes.column_of(table(solved, "me")[NET].prefix)]
    row, paths = solution_of(solved, "bgp").paths.rows[number], solution_of(solved, "bgp").paths
    in_bulk = {
        "local preference": str(row[attributes.LOCAL_PREFERENCE]),
        "weight": str(row[attributes.WEIGHT]),
        "MED": str(row[attributes.MED]),
        "origin": attributes.ORIGINS[row[attributes.ORIGIN]],
        "AS path": " ".join(map(str, paths.as_paths.values[row[attributes.AS_PATH]])),
        "communities": ", ".join(sorted(paths.communities.values[row[attributes.COMMUNITIES]])),
        "next hop": str(paths.next_hops.values[row[attributes.NEXT_HOP]]),
    }
    assert in_bulk[name] == value


def test_a_preference_and_a_tag_are_the_tables():
    route = table(line(accept(preference=15, tag=7)).solve(), "me")[NET]
    assert (route.preference, route.tag) == (15, 7)


def test_later_statements_see_what_earlier_ones_set():
    net = line({"set": {"communities": {"add": ["64500:7"]}, "med": 9}, "result": "continue"})
    net.devices["me"]["policies"]["in"] += [
        {"match": {"communities": "64500:7", "med": 9}, "set": {"local_preference": 300}, "result": "accept"}
    ]
    candidate = why(net.solve(), "me")["candidates"][0]
    assert shown(candidate)["local preference"] == "300"
    assert shown(candidate)["policy"] == "import policy in accepts it: statement 2, after statement 1 changed it"


def test_what_asks_for_a_path_does_not_match_other_routes():
    net = Net()
    net.speaker("me", 64500)
    net.devices["me"]["routing"]["static"] = [{"prefix": NET, "action": "discard"}]
    net.devices["me"]["routing"]["rip"] = {
        "interfaces": {"lo": {}},
        "redistribute": [
            {"from": "static", "policy": net.policy("me", "p", {"match": {"as_path": ".*"}, "result": "accept"})}
        ],
    }
    solved = net.solve()
    assert (
        solved.redistribution.redistributed[solved.solutions.index(solution_of(solved, "rip"))][0].numbers.tolist()
        == []
    )


def test_an_export_policy_sees_paths_before_the_own_as_is_put_in_front():
    net = line(accept(), {"match": {"as_path": "^64501$", "neighbor": "172.16.2.2"}, "result": "accept"})
    assert via(net.solve(), "me") == ["c2"]


def test_private_as_numbers():
    assert without_private((64500, 64512, 65534, 65535, 4200000000, 7)) == (64500, 65535, 7)


def test_paths_are_interned():
    paths = Paths()
    rows = paths.blank(3, "igp")
    rows[1, attributes.MED] = 4
    first = paths.numbers_of(rows)
    assert first[0] == first[2] != first[1]
    assert paths.numbers_of(rows).tolist() == first.tolist()
    assert len(paths) == 2
    many = paths.blank(200, "egp")
    many[:, attributes.MED] = range(200)
    assert len(set(paths.numbers_of(many).tolist())) == 200
    assert (paths.rows[paths.numbers_of(many), attributes.MED] == range(200)).all()


def test_sets_change_only_where_a_statement_holds():
    paths = Paths()
    given = PathRows(paths, paths.blank(2, "igp"))
    from routrel.model.policies import CommunityChange, PolicySet, Prepend

    change = PolicySet(communities=CommunityChange(("64500:1",)), as_path_prepend=Prepend(64500, 2), weight=3)
    given.apply(change, given.rows[:, attributes.MED] < [0, -5])
    assert given.rows[:, attributes.WEIGHT].tolist() == [3, 0]
    assert [paths.as_paths.values[number] for number in given.rows[:, attributes.AS_PATH]] == [(64500, 64500), ()]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("neighbors: {10.1.0.2: {}}", "lacks the key 'as'"),
        ("neighbors: {10.1.0.2: {as: 0}}", "out of range"),
        ("neighbors: {there: {as: 1}}", "not an IPv4 or IPv6 address"),
        ("neighbors: {10.1.0.2: {as: 2, import: p}}", "no policy of this name"),
        ("neighbors: {10.1.0.2: {as: 2, update_source: lo}}", "no interface of this name"),
        ("neighbors: {10.1.0.2: {as: 2, update_source: e1, local_address: 10.9.0.1}}", "no address of e1"),
        ('neighbors: {"2001:db8::2": {as: 2, update_source: e1}}', "e1 has no IPv6 address"),
        ("neighbors: {10.1.0.2: {as: 2, local_address: 10.9.0.1}}", "10.1.0.1"),
        ("neighbors: {10.1.0.2: {as: 2, route_reflector_client: true}}", "only a neighbor of the same AS"),
        ("redistribute: [{from: bgp}]", "its own routes"),
        ("decision: {missing_med: first}", "one of best, worst"),
        ("multipath: {ebgp: 0}", "from 1"),
        ("router_id: 2001:db8::1", "router id"),
    ],
)
def test_bad_bgp_is_refused_with_its_place(text, said):
    found = errors(
        f"devices:\n  r:\n    interfaces: {{e1: {{addresses: [10.1.0.1/30]}}}}\n    routing:\n      bgp: {{as: 1, {text}}}\n"
    )
    assert any(said in one and ":7:" in one for one in found), found


@pytest.mark.parametrize(
    ("statement", "said"),
    [
        ("{match: {as_path: '(1'}, result: accept}", "no regular expression"),
        ("{match: {as_path: '['}, result: accept}", "no regular expression"),
        ("{match: {as_path: 'x'}, result: accept}", "no expression over AS numbers"),
        ("{match: {as_path: {maxlength: 2}}, result: accept}", "did you mean max_length"),
        ("{match: {communities: 1}, result: accept}", "community"),
        ("{match: {communities: '1:2:3:4'}, result: accept}", "no community"),
        ("{set: {communities: {add: ['65536:1']}}, result: accept}", "no community"),
        ("{set: {as_path_prepend: {as: 1, times: 51}}, result: accept}", "from 1 to 50"),
        ("{set: {origin: ebgp}, result: accept}", "did you mean egp"),
        ("{set: {weight: 65536}, result: accept}", "from 0 to 65535"),
        ("{set: {next_hop: 10.0.0.1, next_hop_self: true}, result: accept}", "set the same"),
    ],
)
def test_bad_policies_are_refused_with_their_place(statement, said):
    found = errors(f"devices:\n  r:\n    policies:\n      p:\n      - {statement}\n")
    assert any(said in one and ":7:" in one for one in found), found


def test_every_key_of_a_neighbor_is_read():
    text = (
        "{as: 2, description: d, enabled: false, local_address: 10.1.0.1, update_source: e1, multihop: 3, import: p,"
        " export: p, weight: 4, next_hop_self: true, originate_default: true, allow_own_as: 2,"
        " remove_private_as: true, established_at: 2026-11-20T06:00:00Z, families: [ipv4, ipv6]}"
    )
    try:
        found = errors(
            "devices:\n  r:\n    interfaces: {e1: {addresses: [10.1.0.1/30]}}\n    policies: {p: [{result: accept}]}\n"
            f"    routing:\n      bgp:\n        as: 1\n        require_policies: true\n        cluster_id: 1.1.1.1\n"
            f"        neighbors: {{10.1.0.2: {text}}}\n"
        )
    except LoadError as error:
        raise AssertionError(error) from error
    assert found == []
