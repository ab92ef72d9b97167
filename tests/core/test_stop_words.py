"""One line for each stop: what decided there, or what stops the packet."""

import pytest

from routrel.analysis.evidence import Evidence
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from tests.core.networks import load

RING = """
devices:
  h1: {kind: host, interfaces: {e0: {addresses: [10.1.0.10/24]}}, gateway: 10.1.0.1}
  r1:
    interfaces:
      lan: {addresses: [10.1.0.1/24]}
      a: {addresses: [172.16.0.1/30]}
      b: {addresses: [172.16.0.5/30]}
    routing:
      ospf: {areas: {0: {interfaces: {lan: {}, a: {cost: 10}, b: {cost: 10}}}}}
      static: [{prefix: 198.51.100.0/24, action: discard}, {prefix: 203.0.113.0/24, next_hop: 172.16.0.2}]
  r2:
    interfaces:
      a: {addresses: [172.16.0.2/30]}
      c: {addresses: [172.16.0.9/30]}
      d: {addresses: [172.16.0.17/30]}
    routing: {ospf: {areas: {0: {interfaces: {a: {}, c: {}, d: {}}}}}}
  r3:
    interfaces: {b: {addresses: [172.16.0.6/30]}, c: {addresses: [172.16.0.13/30]}}
    routing: {ospf: {areas: {0: {interfaces: {b: {}, c: {}}}}}}
  r4:
    interfaces:
      c: {addresses: [172.16.0.10/30]}
      d: {addresses: [172.16.0.18/30]}
      e: {addresses: [172.16.0.14/30]}
      lan: {addresses: [10.2.0.1/24], acl_out: office}
    routing: {ospf: {areas: {0: {interfaces: {lan: {}, c: {}, d: {}, e: {}}}}}}
    acls: {office: [{action: drop, protocol: tcp, destination_ports: [23]}, {action: accept, protocol: tcp}]}
  h2: {kind: host, interfaces: {e0: {addresses: [10.2.0.10/24]}}, gateway: 10.2.0.1}
links: [[h1:e0, r1:lan], [r1:a, r2:a], [r1:b, r3:b], [r2:c, r4:c], [r2:d, r4:d], [r3:c, r4:e], [r4:lan, h2:e0]]
"""


@pytest.fixture(scope="module")
def solved():
    return load(RING)


def words(solved, destination: str, service: str = "tcp/443") -> dict[str, str]:
    answerer = Answerer(solved)
    walk = Evidence(answerer).walk(answerer.asker.ask(Flow("h1", destination, service)))
    return {stop.device: stop.decided for stop in walk.forward.stops}


def test_a_stop_says_its_route_and_the_ways_on(solved):
    assert words(solved, "h2") == {
        "h1": "to its gateway",
        "r1": "10.2.0.0/24 by ospf, 2 ways",
        "r2": "10.2.0.0/24 by ospf, 2 ways",
        "r3": "10.2.0.0/24 by ospf",
        "r4": "ACL office: entry 2 accepts; 10.2.0.0/24 connected",
        "h2": "10.2.0.10 is its own",
    }


def test_a_hop_with_fewer_ways_than_its_sibling_is_told(solved):
    answerer = Answerer(solved)
    walk = Evidence(answerer).walk(answerer.asker.ask(Flow("h1", "h2", "tcp/443")))
    assert [stop.device for stop in walk.forward.stops if stop.narrower] == ["r3"]


@pytest.mark.parametrize(
    ("destination", "service", "device", "said"),
    [
        ("h2", "tcp/23", "r4", "ACL office: entry 1 drops"),
        ("h2", "udp/53", "r4", "ACL office: the closing drop"),
        ("10.9.0.1", "icmp", "r1", "no route for 10.9.0.1"),
        ("198.51.100.1", "icmp", "r1", "198.51.100.0/24 by static discards"),
        (
            "10.2.0.99",
            "tcp/443",
            "r4",
            "ACL office: entry 2 accepts; 10.2.0.0/24 connected; nobody there has 10.2.0.99",
        ),
    ],
)
def test_what_stops_a_packet_is_said(solved, destination, service, device, said):
    assert words(solved, destination, service)[device] == said
