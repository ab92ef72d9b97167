"""Random lists of changes of every kind to a network's document, and the ways a document may be written."""

import json

import yaml
from hypothesis import strategies as st

SMALL = st.integers(0, 20)
PREFIXES = st.sampled_from(["192.0.2.0/24", "10.0.0.2/32", "198.51.100.0/24", "2001:db8::2/128"])
STATICS = st.fixed_dictionaries(
    {"prefix": PREFIXES, "action": st.sampled_from(["discard", "reject"])}, optional={"preference": st.integers(1, 200)}
)
STATEMENTS = st.fixed_dictionaries(
    {"result": st.sampled_from(["accept", "continue", "reject"])},
    optional={"match": st.builds(lambda one: {"prefixes": [one]}, PREFIXES), "set": st.just({"metric": 3})},
)
ACL_ENTRIES = st.fixed_dictionaries(
    {"action": st.sampled_from(["accept", "drop"])},
    optional={"protocol": st.sampled_from(["tcp", "udp", 89]), "source": st.just("10.0.0.0/8")},
)
STEERING = st.builds(
    lambda source, action: {"match": {"source": source}, "action": action},
    st.sampled_from(["10.0.0.0/8", "172.16.0.0/12"]),
    st.sampled_from(["discard", "table"]),
)
COMMUNITIES = st.sampled_from([{"add": ["64500:9"]}, {"replace": []}])


@st.composite
def change_lists(draw, document: dict) -> list[dict]:
    """Up to six changes to a document, some of them off; not all can be made."""
    return draw(st.lists(_changes(document), min_size=1, max_size=6))


@st.composite
def _changes(draw, document: dict) -> dict:
    name = draw(st.sampled_from(sorted(document["devices"])))
    device = document["devices"][name]
    interface = f"{name}:{draw(st.sampled_from(sorted(device['interfaces'])))}"
    bgp = device.get("routing", {}).get("bgp", {})
    session = f"{name} {draw(st.sampled_from(sorted(bgp.get('neighbors', {})) or ['10.0.0.1']))}"
    change = draw(
        st.one_of(
            _settings(name, interface),
            _sessions(session),
            _switches(name, interface, session),
            _lists(name, device),
            _links(document, interface),
            _expectations(name),
        )
    )
    return {**change, **draw(st.sampled_from([{}, {}, {"off": True}]))}


def _made(**values) -> st.SearchStrategy[dict]:
    fixed = {key: one if isinstance(one, st.SearchStrategy) else st.just(one) for key, one in values.items()}
    return st.fixed_dictionaries({key.rstrip("_"): one for key, one in fixed.items()})


def _settings(name: str, interface: str):
    small = st.one_of(st.none(), SMALL)
    return st.one_of(
        _made(set="cost", at=interface, to=small),
        _made(set="metric", at=interface, to=small, protocol=st.sampled_from(["isis", "rip"])),
        _made(set="metric", at=interface, to=small),
        _made(set="delay", at=interface, to=small),
        _made(set="bandwidth", at=interface, to=st.sampled_from(["10M", 64000, None])),
        _made(set="bandwidth", at=interface, to="10M", protocol="eigrp"),
        _made(set="mtu", at=interface, to=st.sampled_from([1400, 10, None])),
        _made(set="vrrp_priority", at=interface, to=st.sampled_from([1, 254, 300, None])),
        _made(set="addresses", at=interface, to=st.sampled_from([["10.9.0.1/24"], ["2001:db8:9::1/64"], []])),
        _made(set="area", at=interface, to=st.sampled_from([0, 1, "0.0.0.2"])),
        _made(set="acl_in", at=interface, to=st.sampled_from(["new", None])),
        _made(set="acl_out", at=interface, to=st.sampled_from(["new", None])),
        _made(set="forwarding_policy", at=interface, to=st.sampled_from(["new", None])),
        _made(set="preference", at=name, of=st.sampled_from(["static", "ospf", "rip"]), to=SMALL),
        _made(set="preference", at=name, for_=PREFIXES, to=SMALL),
        _made(set="preference", at=name, for_=PREFIXES, from_="172.16.0.1", to=SMALL),
        _made(set="install_policy", at=name, to=st.sampled_from(["keep", "some", None])),
        _made(set="prefer_oldest", at=name, to=st.booleans()),
        _made(set="missing_med", at=name, to=st.sampled_from(["best", "worst"])),
    )


def _sessions(session: str):
    return st.one_of(
        _made(set="weight", at=session, to=SMALL),
        _made(set="local_preference", at=session, to=SMALL, for_=PREFIXES),
        _made(set="med", at=session, to=SMALL, for_=st.lists(PREFIXES, min_size=1, max_size=2)),
        _made(set="origin", at=session, to="egp", on=st.sampled_from(["import", "export"])),
        _made(set="prepend", at=session, to=st.integers(1, 3)),
        _made(set="communities", at=session, to=COMMUNITIES, on="export"),
        _made(restart="session", at=session),
        _made(restart="session", at=session, to="2026-11-25T06:00:00Z"),
    )


def _switches(name: str, interface: str, session: str):
    whats = {"interface": interface, "link": interface, "device": name, "site": "here", "risk_group": "duct"}
    whats["adjacency"] = interface
    return st.one_of(
        *(
            st.builds(lambda verb, what=what, at=at: {verb: what, "at": at}, st.sampled_from(["enable", "disable"]))
            for what, at in {**whats, "session": session}.items()
        )
    )


def _links(document: dict, interface: str):
    """Cables added where there may be some already, and taken out."""
    others = [f"{name}:{one}" for name, device in document["devices"].items() for one in device["interfaces"]]
    other = st.sampled_from(sorted(others))
    return st.one_of(
        _made(add="link", at=interface, to=other),
        _made(add="link", at=interface, to=other, name="cable"),
        _made(add="link", at=interface, to=st.lists(other, max_size=2)),
        _made(remove="link", at=interface),
        _made(remove="link", at="cable"),
    )


def _lists(name: str, device: dict):
    routing = device.get("routing", {})
    ospf = routing.get("ospf")
    areas = sorted(ospf.get("areas", {})) if isinstance(ospf, dict) else []
    policies = sorted(device.get("policies", {})) or ["new"]
    kinds = [
        ("static", STATICS, {}),
        ("redistribution", st.builds(lambda one: {"from": one}, st.sampled_from(["static", "connected"])), INTO),
        ("aggregate", st.builds(lambda one: {"prefix": one}, PREFIXES), {}),
        ("network", PREFIXES, {}),
        ("range", st.builds(lambda one: {"prefix": one}, PREFIXES), {"area": st.sampled_from(areas or ["0"])}),
        ("statement", STATEMENTS, {"policy": st.sampled_from(policies)}),
        ("acl_entry", ACL_ENTRIES, {"acl": st.just("new")}),
        ("steering_entry", STEERING, {"policy": st.just("new")}),
    ]
    number, places = st.integers(1, 3), []
    for what, entry, more in kinds:
        places += [
            _made(add=what, at=name, entry=entry, **more),
            _made(add=what, at=name, entry=entry, before=number, **more),
            _made(change=what, at=name, entry=entry, number=number, **more),
            _made(move=what, at=name, number=number, before=number, **more),
            _made(move=what, at=name, number=number, **more),
            _made(remove=what, at=name, number=number, **more),
        ]
    return st.one_of(*places)


def _expectations(name: str):
    at = st.sampled_from(["one", "two"])
    entry = st.fixed_dictionaries({"from": st.just(name), "to": st.sampled_from([["r0", "10.0.0.2"], "r1", 7])})
    return st.one_of(
        _made(add="expectation", at=at, entry=entry),
        _made(add="expectation", at=at, entry=entry),
        _made(change="expectation", at=at, entry=entry),
        _made(remove="expectation", at=at),
    )


INTO = {"into": st.sampled_from(["ospf", "isis", "rip", "eigrp", "bgp"])}


def _folder(document: dict) -> dict[str, bytes]:
    top = {key: value for key, value in document.items() if key != "devices"}
    parts = {f"devices/{name}.yaml": _block(device) for name, device in document["devices"].items()}
    return {"network.yaml": _block(top), **parts}


def _block(document: dict) -> bytes:
    return yaml.safe_dump(document, sort_keys=False, default_flow_style=False).encode()


LAYOUTS = {
    "JSON on one line": lambda document: {"network.json": json.dumps(document).encode()},
    "JSON on many lines": lambda document: {"network.json": json.dumps(document, indent=2).encode()},
    "YAML in blocks": lambda document: {"network.yaml": _block(document)},
    "YAML with braces inside": lambda document: {"network.yaml": yaml.safe_dump(document, sort_keys=False).encode()},
    "YAML, deepest in braces": lambda document: {
        "network.yaml": yaml.safe_dump(document, sort_keys=False, default_flow_style=None).encode()
    },
    "a folder": _folder,
}
