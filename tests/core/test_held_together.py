"""Places that all goes alike to and from are looked at together: the answer is that of each looked at alone."""

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.answers.held import Held
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.held.conversations import Conversations
from routrel.analysis.held.decisions import Decisions
from routrel.analysis.held.first_state import FirstState
from routrel.analysis.held.groups import comparing
from routrel.formats.sources import read_files
from routrel.solving import solve
from tests.core.held_networks import changed, networks
from tests.core.mixed_networks import read
from tests.examples import examples


@st.composite
def several_places(draw) -> dict:
    """A ring of routers of which some have more subnets, share one, own the same address, or steer."""
    document = draw(networks())
    devices = document["devices"]
    for name in ("r0", "r1", "r2"):
        if draw(st.booleans()):
            add_subnet(devices[name], "more", f"10.1.{5 + int(name[1])}.1/24")
        if draw(st.integers(0, 3)) == 0:
            devices[name].setdefault("forwarding_policies", {})["away"] = [
                {"match": {"destination": draw(st.sampled_from(["10.1.0.0/16", "10.0.0.0/24"]))}, "action": "discard"}
            ]
            port = draw(st.sampled_from([one for one in devices[name]["interfaces"] if one.startswith("c")]))
            devices[name]["interfaces"][port]["forwarding_policy"] = "away"
    if draw(st.booleans()):
        for name in ("r1", "r2"):
            devices[name]["interfaces"]["lo"]["addresses"] = ["10.0.0.9/32"]
    if draw(st.booleans()):
        for place, name in enumerate(("r1", "r2")):
            add_subnet(devices[name], "shared", f"10.1.9.{1 + place}/24")
        if draw(st.booleans()):
            document["links"].append(["r1:shared", "r2:shared", "tap:e0"])
            devices["tap"] = {"kind": "host", "interfaces": {"e0": {"addresses": ["10.1.9.9/24"]}}}
    return document


def add_subnet(device: dict, port: str, address: str) -> None:
    device["interfaces"][port] = {"addresses": [address]}
    device["routing"]["ospf"]["areas"]["0"]["interfaces"][port] = {"passive": True}


@given(document=several_places(), data=st.data())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_places_looked_at_together_are_as_each_alone(document, data):
    before, after = solve(read(document)), solve(read(data.draw(changed(document))))
    *_, together = comparing(before, after)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Decisions, "likeness", lambda self: self.addresses.number)
        *_, alone = comparing(before, after)
    assert together.held is not None and alone.held is not None
    assert as_dicts(together.held) == as_dicts(alone.held)


@given(document=several_places(), data=st.data())
@settings(max_examples=examples(20), deadline=None, suppress_health_check=list(HealthCheck))
def test_a_state_held_against_several_is_as_against_each_alone(document, data):
    """What is kept of the first state for the next is what it has beside any."""
    before = solve(read(document))
    first = FirstState(before)
    every = list(failures_of(before, ("links", "devices", "interfaces")))
    afters = [
        solve(failed(before.network, failure), before)
        for failure in data.draw(st.lists(st.sampled_from(every), min_size=2, max_size=4))
    ]
    afters.insert(1, solve(read(data.draw(changed(document)))))  # with other lists, ports and devices between
    for after in (*afters, afters[0]):
        *_, kept = comparing(first, after)
        *_, alone = comparing(before, after)
        assert kept.held is not None and alone.held is not None
        assert as_dicts(kept.held) == as_dicts(alone.held)


def as_dicts(held: Held) -> object:
    """An answer but for its examples, any of which may be taken."""
    groups = [{**msgspec.structs.asdict(group), "example": None} for group in held.groups]
    return {**msgspec.structs.asdict(held), "groups": sorted(groups, key=str)}


PAIR = """\
routrel: 1
name: two by one address
devices:
  r1:
    interfaces:
      lo: {addresses: [10.0.0.9/32]}
      lan: {addresses: [10.1.1.1/24]}
      a: {addresses: [10.9.13.1/30]}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {}}}}}}
  r2:
    interfaces:
      lo: {addresses: [10.0.0.9/32]}
      lan: {addresses: [10.1.1.2/24]}
      a: {addresses: [10.9.23.1/30]}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {}}}}}}
  r3:
    interfaces:
      lo: {addresses: [10.0.0.3/32]}
      lan: {addresses: [10.1.3.1/24]}
      a: {addresses: [10.9.13.2/30]}
      b: {addresses: [10.9.23.2/30]}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {cost: 1}, b: {cost: 5}}}}}}
links: [[r1:a, r3:a], [r2:a, r3:b]]
"""


def found_of(text: str, *changes: tuple[str, str]) -> tuple[Conversations, Held]:
    """What becomes of a network where some of its text is replaced."""
    before = solve(read_text(text))
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    after = solve(read_text(text))
    *_, last = comparing(before, after)
    assert last.held is not None
    found = Conversations(before, after)
    return found, last.held


def read_text(text: str):
    return read_files({"network.yaml": text.encode()})


def shared(found: Conversations, one: str, other: str) -> bool:
    """Whether two places are looked at together."""
    first, second = (next(each for each in found.places.classes if each.place.name == name) for name in (one, other))
    return found.ways(first) is found.ways(second)


def test_a_router_and_its_subnet_are_looked_at_together():
    found, held = found_of(PAIR, ("a: {cost: 1}", "a: {cost: 9}"))
    assert shared(found, "r3", "10.1.3.0/24")
    assert held.changed


def test_two_routers_by_one_address_are_not_looked_at_with_their_subnet():
    """An answer to r1 that comes to r2 is lost; one to a host of the subnet is not."""
    found, held = found_of(PAIR, ("a: {cost: 1}", "a: {cost: 9}"))
    assert not shared(found, "r1", "10.1.1.0/24")
    said = {(one.effect, one.what) for one in held.groups if one.sources.names == ["r1"]}
    assert said == {("blocked", "arrives → arrives, answer arrives at r2")}


def test_a_router_that_steers_is_not_looked_at_with_its_subnet():
    """What is for the router itself is not steered; what is for its subnet is."""
    steering = PAIR.replace(
        "      a: {addresses: [10.9.13.2/30]}\n", "      a: {addresses: [10.9.13.2/30], forwarding_policy: away}\n"
    ).replace(
        "links:",
        "    forwarding_policies: {away: [{match: {destination: 10.1.3.0/24}, action: discard}]}\nlinks:",
    )
    found, _ = found_of(steering, ("a: {cost: 1}", "a: {cost: 9}"))
    assert not shared(found, "r3", "10.1.3.0/24")


def test_a_subnet_behind_an_acl_is_not_looked_at_with_its_router():
    guarded = PAIR.replace("[10.1.3.1/24]", "[10.1.3.1/24], acl_out: guard").replace(
        "links:", "    acls: {guard: [{action: drop, protocol: udp}, {action: accept}]}\nlinks:"
    )
    found, _ = found_of(guarded, ("a: {cost: 1}", "a: {cost: 9}"))
    assert not shared(found, "r3", "10.1.3.0/24")
