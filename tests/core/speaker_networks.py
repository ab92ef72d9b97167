"""Random networks of BGP speakers: internal and external sessions, reflection, policies of every kind."""

from hypothesis import strategies as st

PREFIXES = ("192.0.2.0/24", "198.51.100.0/24", "198.51.100.128/25", "203.0.113.0/24", "2001:db8:f::/48")
COMMUNITIES = ("64500:1", "64501:2", "no-export", "no-advertise")
TIMES = ("2026-11-20T06:00:00Z", "2026-11-21T06:00:00Z", "2026-11-22T06:00:00Z")


def matches(first_as: int):
    return st.fixed_dictionaries(
        {},
        optional={
            "prefixes": st.lists(
                st.sampled_from([*PREFIXES, {"prefix": "198.51.100.0/24", "max_length": 32}]), min_size=1, max_size=2
            ),
            "as_path": st.sampled_from(
                [
                    {"contains": first_as},
                    {"starts": first_as + 1},
                    {"ends": first_as + 2},
                    {"max_length": 1},
                    {"min_length": 2},
                    f"^{first_as}( |$)",
                ]
            ),
            "communities": st.sampled_from(["64500:1", ["64500:1", "64501:2"], {"all": ["64500:1", "64501:2"]}]),
            "med": st.sampled_from([0, 5]),
            "protocol": st.sampled_from(["bgp", "static", ["connected", "bgp"]]),
            "next_hop": st.sampled_from(["10.0.0.1", "172.16.0.1"]),
            "neighbor": st.sampled_from(["10.0.0.2", ["172.16.0.1", "172.16.1.2"]]),
            "tag": st.just(7),
        },
    )


def sets(first_as: int):
    return st.fixed_dictionaries(
        {},
        optional={
            "local_preference": st.sampled_from([90, 110]),
            "med": st.sampled_from([0, 5, 10]),
            "metric": st.just(5),
            "weight": st.sampled_from([0, 10]),
            "origin": st.sampled_from(["igp", "egp", "incomplete"]),
            "as_path_prepend": st.sampled_from([{"as": first_as, "times": 2}, {"as": first_as + 1}]),
            "communities": st.sampled_from(
                [{"add": [one]} for one in COMMUNITIES] + [{"remove": ["64500:1"]}, {"replace": ["64501:2"]}]
            ),
            "tag": st.just(7),
            "preference": st.sampled_from([15, 205]),
            "next_hop": st.just("10.0.0.1"),
        },
    ) | st.just({"next_hop_self": True})


def policies(first_as: int):
    statement = st.fixed_dictionaries(
        {"result": st.sampled_from(["accept", "accept", "continue", "reject"])},
        optional={"match": matches(first_as), "set": sets(first_as)},
    )
    return st.lists(statement, max_size=2).flatmap(
        lambda found: st.sampled_from([[*found, {"result": "accept"}], [*found, {"result": "accept"}], found])
    )


@st.composite
def speakers(draw) -> dict:
    """Up to seven speakers in up to three ASes; inside an AS OSPF carries the loopbacks."""
    count = draw(st.integers(2, 7))
    first_as = draw(st.sampled_from([64500, 64512]))
    number = [first_as + draw(st.integers(0, 2)) for _ in range(count)]
    devices = {}
    for i in range(count):
        devices[f"r{i}"] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32"]}},
            "routing": {
                "router_id": f"10.0.0.{i + 1}",
                "ospf": {"areas": {"0": {"interfaces": {"lo": {}}}}},
                "bgp": {"as": number[i], "neighbors": {}},
            },
            "policies": {name: draw(policies(first_as)) for name in ("p", "q")},
        }
    links = []
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    for cable, (a, b) in enumerate(draw(st.lists(st.sampled_from(pairs), min_size=1, max_size=10))):
        for host, end in enumerate((a, b), 1):
            interface = {"addresses": [f"172.16.{cable}.{host}/30", f"2001:db8:1:{cable}::{host}/64"]}
            devices[f"r{end}"]["interfaces"][f"c{cable}"] = interface
        links.append([f"r{a}:c{cable}", f"r{b}:c{cable}"])
        if number[a] == number[b]:
            for end in (a, b):
                cost = {"cost": draw(st.integers(1, 3))}
                devices[f"r{end}"]["routing"]["ospf"]["areas"]["0"]["interfaces"][f"c{cable}"] = cost
        elif draw(st.integers(0, 9)):
            families = draw(st.sampled_from([[4], [4], [4, 6]]))
            for family in families:
                there, here = (
                    (f"172.16.{cable}.2", f"172.16.{cable}.1")
                    if family == 4
                    else (f"2001:db8:1:{cable}::2", f"2001:db8:1:{cable}::1")
                )
                _neighbor(draw, devices[f"r{a}"], there, number[b])
                _neighbor(draw, devices[f"r{b}"], here, number[a])
    for a, b in pairs:
        if number[a] == number[b] and draw(st.integers(0, 3)):
            for own, other in ((a, b), (b, a)):
                settings = _neighbor(draw, devices[f"r{own}"], f"10.0.0.{other + 1}", number[other])
                settings["update_source"] = "lo"
                if draw(st.booleans()):
                    settings["next_hop_self"] = True
                if draw(st.integers(0, 3)) == 0:
                    settings["route_reflector_client"] = True
                if draw(st.integers(0, 3)) == 0:
                    settings["families"] = ["ipv4", "ipv6"]
    for i in range(count):
        _origins(draw, devices[f"r{i}"])
    return {"routrel": 1, "name": "speakers", "devices": devices, "links": links}


def _neighbor(draw, device, address, number) -> dict:
    settings = device["routing"]["bgp"]["neighbors"].setdefault(address, {})
    settings["as"] = number
    for key in ("import", "export"):
        if draw(st.integers(0, 2)) == 0:
            settings[key] = draw(st.sampled_from(["p", "q"]))
    odd = draw(st.integers(0, 19))
    if odd == 0:
        settings["allow_own_as"] = 1
    elif odd == 1:
        settings["remove_private_as"] = True
    elif odd == 2:
        settings["originate_default"] = True
    elif odd == 3:
        settings["weight"] = 5
    elif odd == 4:
        settings["enabled"] = False
    elif odd in (5, 6, 7):
        settings["established_at"] = TIMES[odd - 5]
    return settings


def _origins(draw, device) -> None:
    routing = device["routing"]
    bgp = routing["bgp"]
    originated = draw(st.lists(st.sampled_from(PREFIXES), max_size=2, unique=True))
    routing["static"] = [{"prefix": prefix, "action": "discard"} for prefix in originated]
    if draw(st.integers(0, 3)) == 0:
        routing["static"].append({"prefix": "192.0.2.0/24", "next_hop": "10.0.0.2", "preference": 150})
    how = draw(st.integers(0, 3))
    if how == 0 and originated:
        bgp["redistribute"] = [{"from": "static", "policy": draw(st.sampled_from(["p", "q"])), "metric": 3}]
    elif how == 1:
        bgp["redistribute"] = [{"from": "ospf"}, {"from": "static"}]
    else:
        bgp["networks"] = originated
    if draw(st.integers(0, 4)) == 0:
        summary = {"prefix": "198.51.100.0/24", "summary_only": draw(st.booleans())}
        bgp["aggregates"] = [summary]
    if draw(st.integers(0, 4)) == 0:
        routing["ospf"]["redistribute"] = [{"from": "bgp", "policy": draw(st.sampled_from(["p", "q"]))}]
    if draw(st.integers(0, 3)) == 0:
        bgp["multipath"] = {"ebgp": draw(st.integers(1, 3)), "ibgp": draw(st.integers(1, 3))}
    bgp["decision"] = draw(
        st.fixed_dictionaries(
            {},
            optional={
                "compare_med_between_as": st.booleans(),
                "deterministic_med": st.booleans(),
                "missing_med": st.sampled_from(["best", "worst"]),
                "prefer_oldest": st.booleans(),
                "ignore_as_path_length": st.booleans(),
            },
        )
    )
    if draw(st.integers(0, 9)) == 0:
        bgp["require_policies"] = True
    if draw(st.integers(0, 4)) == 0:
        bgp["announce_unused"] = True
    if draw(st.integers(0, 7)) == 0:
        routing["install_policy"] = draw(st.sampled_from(["p", "q"]))
