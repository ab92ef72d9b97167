"""What the examples of the RFCs of protocols, lists, policies, instances and topologies say, retyped."""

from typing import Any

from tests.core.model_documents import ietf_interface


def _xml(*trees: str) -> str:
    return f'<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">{"".join(trees)}</config>'


def _port(name: str, kind: str, *addresses: str) -> str:
    """An entry of ietf-interfaces in XML."""
    families = []
    for family in ("ipv4", "ipv6"):
        own = [one.split("/") for one in addresses if (":" in one) == (family == "ipv6")]
        listed = "".join(
            f"<address><ip>{ip}</ip><prefix-length>{length}</prefix-length></address>" for ip, length in own
        )
        families.append(f'<{family} xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">{listed}</{family}>' if own else "")
    return (
        f"<interface><name>{name}</name><description/>"
        f'<type xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">ianaift:{kind}</type>'
        f"<link-up-down-trap-enable>enabled</link-up-down-trap-enable>{''.join(families)}</interface>"
    )


def _ports(*entries: str) -> str:
    return f'<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">{"".join(entries)}</interfaces>'


ROUTED = _ports(_port("e0", "ethernetCsmacd", "10.0.0.1/24"), _port("e1", "ethernetCsmacd", "10.0.1.1/24"))
"""Two interfaces for the examples that have none."""


def _acl(name: str, kind: str, matches: str, action: str) -> str:
    return f"""
    <acl>
      <name>{name}</name>
      <type>{kind}</type>
      <aces>
        <ace>
          <name>rule1</name>
          <matches>{matches}</matches>
          <actions><forwarding>{action}</forwarding></actions>
        </ace>
      </aces>
    </acl>"""


def rfc8519_lists(*acls: str) -> str:
    return _xml(f'<acls xmlns="urn:ietf:params:xml:ns:yang:ietf-access-control-list">{"".join(acls)}</acls>', ROUTED)


RFC8519_TCP = _acl(
    "sample-ipv4-acl",
    "ipv4-acl-type",
    "<ipv4><protocol>6</protocol><destination-ipv4-network>198.51.100.0/24</destination-ipv4-network>"
    "<source-ipv4-network>192.0.2.0/24</source-ipv4-network></ipv4>",
    "drop",
)
"""Section 4.3: TCP from 192.0.2.0/24 to 198.51.100.0/24 is dropped."""

RFC8519_DNS = _acl(
    "allow-dns-packets",
    "ipv6-acl-type",
    "<ipv6><destination-ipv6-network>2001:db8::/32</destination-ipv6-network></ipv6>"
    "<udp><destination-port><operator>eq</operator><port>53</port></destination-port></udp>",
    "accept",
)
"""Section 4.3: UDP to port 53 of 2001:db8::/32 is accepted."""


def rfc8519_source_ports(ports: str) -> str:
    """Section 4.4: an entry for TCP from some ports."""
    return _acl("ports", "ipv4-acl-type", f"<ipv4/><tcp><source-port>{ports}</source-port></tcp>", "accept")


def _prefixes(name: str, family: str, *entries: tuple[str, int, int]) -> str:
    listed = "".join(
        f"<prefix-list><ip-prefix>{prefix}</ip-prefix><mask-length-lower>{low}</mask-length-lower>"
        f"<mask-length-upper>{high}</mask-length-upper></prefix-list>"
        for prefix, low, high in entries
    )
    return f"<prefix-set><name>{name}</name><mode>{family}</mode><prefixes>{listed}</prefixes></prefix-set>"


RFC9067_POLICY = _xml(
    f"""
  <routing-policy xmlns="urn:ietf:params:xml:ns:yang:ietf-routing-policy">
    <defined-sets>
      <prefix-sets>
        {_prefixes("prefix-set-A", "ipv4", ("192.0.2.0/24", 24, 32), ("198.51.100.0/24", 24, 32))}
        {_prefixes("prefix-set-B", "ipv6", ("2001:db8::/32", 32, 64))}
      </prefix-sets>
      <tag-sets><tag-set><name>cust-tag1</name><tag-value>10</tag-value></tag-set></tag-sets>
    </defined-sets>
    <policy-definitions>
      <policy-definition>
        <name>export-tagged-BGP</name>
        <statements>
          <statement>
            <name>term-0</name>
            <conditions>
              <match-prefix-set><prefix-set>prefix-set-A</prefix-set></match-prefix-set>
              <match-tag-set><tag-set>cust-tag1</tag-set></match-tag-set>
            </conditions>
            <actions><policy-result>accept-route</policy-result></actions>
          </statement>
        </statements>
      </policy-definition>
    </policy-definitions>
  </routing-policy>""",
    ROUTED,
)
"""Appendix B: two sets of prefixes and one of tags; routes of the first set with the tag are accepted."""

RFC9130_ROUTER = _xml(
    """
  <routing xmlns="urn:ietf:params:xml:ns:yang:ietf-routing">
    <router-id>1.1.1.1</router-id>
    <control-plane-protocols>
      <control-plane-protocol>
        <name>ISIS</name>
        <description/>
        <type xmlns:isis="urn:ietf:params:xml:ns:yang:ietf-isis">isis:isis</type>
        <isis xmlns="urn:ietf:params:xml:ns:yang:ietf-isis">
          <enabled>true</enabled>
          <level-type>level-2</level-type>
          <system-id>87FC.FCDF.4432</system-id>
          <area-address>49.0001</area-address>
          <mpls><te-rid><ipv4-router-id>192.0.2.1</ipv4-router-id></te-rid></mpls>
          <lsp-lifetime>65535</lsp-lifetime>
          <lsp-refresh>65000</lsp-refresh>
          <metric-type><value>wide-only</value></metric-type>
          <default-metric><value>111111</value></default-metric>
          <address-families>
            <address-family-list><address-family>ipv4</address-family><enabled>true</enabled></address-family-list>
            <address-family-list><address-family>ipv6</address-family><enabled>true</enabled></address-family-list>
          </address-families>
          <interfaces>
            <interface>
              <name>Loopback0</name>
              <tag>200</tag>
              <metric><value>0</value></metric>
              <passive>true</passive>
            </interface>
            <interface>
              <name>Eth1</name>
              <level-type>level-2</level-type>
              <interface-type>point-to-point</interface-type>
              <metric><value>167890</value></metric>
            </interface>
          </interfaces>
        </isis>
      </control-plane-protocol>
    </control-plane-protocols>
  </routing>""",
    _ports(
        _port("Loopback0", "softwareLoopback", "192.0.2.1/32", "2001:db8::1/128"),
        _port("Eth1", "ethernetCsmacd", "198.51.100.1/30", "2001:db8:0:0:FF::1/64"),
    ),
)
"""Appendix A: a router of level 2 with a loopback and one interface for two routers."""


def _rip_route(prefix: str, kind: str, metric: int, **more: str) -> dict[str, Any]:
    hop = {key.replace("_", "-"): value for key, value in more.items()}
    return {
        "ipv4-prefix": prefix,
        "interface": "eth0",
        "route-type": kind,
        "redistributed": kind == "connected",
        "metric": metric,
        "expire-time": 22,
        **hop,
    }


RFC8695_ROUTER: Any = {
    "ietf-interfaces:interfaces": {
        "interface": [
            ietf_interface("eth0", "192.0.2.1/24", oper_status="up", phys_address="00:0C:42:E5:B1:E9"),
            ietf_interface("eth1", "198.51.100.1/24", oper_status="up", phys_address="00:0C:42:E5:B1:EA"),
        ]
    },
    "ietf-routing:routing": {
        "control-plane-protocols": {
            "control-plane-protocol": [
                {
                    "type": "ietf-rip:ripv2",
                    "name": "ripv2-1",
                    "ietf-rip:rip": {
                        "redistribute": {"connected": {}},
                        "interfaces": {"interface": [{"interface": "eth0", "split-horizon": "poison-reverse"}]},
                        "next-triggered-update": 5,
                        "num-of-routes": 2,
                        "ipv4": {
                            "neighbors": {
                                "neighbor": [{"ipv4-address": "192.0.2.2", "last-update": "2016-01-02T10:44:32-05:00"}]
                            },
                            "routes": {
                                "route": [
                                    _rip_route("192.0.2.0/24", "connected", 1),
                                    _rip_route("203.0.113.0/24", "rip", 2, next_hop="192.0.2.2"),
                                ]
                            },
                        },
                        "statistics": {"discontinuity-time": "2016-10-24T17:11:27+02:00", "requests-rcvd": 10},
                    },
                }
            ]
        }
    },
}
"""Appendix A: RIP on one interface that takes over its connected networks, with its neighbour and routes as they are."""


def _vrf(name: str, interface: str) -> dict[str, Any]:
    area = {"area-id": "203.0.113.1", "interfaces": {"interface": [{"name": interface, "cost": 10}]}}
    ospf = {"af": "ipv4", "areas": {"area": [area]}}
    process = {"type": "ietf-routing:ospf", "name": "1", "ietf-ospf:ospf": ospf}
    root = {"router-id": "192.0.2.1", "control-plane-protocols": {"control-plane-protocol": [process]}}
    return {"name": name, "vrf-root": {"ietf-routing:routing": root}}


def _of_instance(name: str, *addresses: str, instance: str) -> dict[str, Any]:
    return ietf_interface(name, *addresses) | {"ietf-network-instance:bind-network-instance-name": instance}


RFC8529_ROUTER: Any = {
    "ietf-network-instance:network-instances": {
        "network-instance": [_vrf("vrf-red", "eth1"), _vrf("vrf-blue", "eth2")]
    },
    "ietf-interfaces:interfaces": {
        "interface": [
            ietf_interface("eth0", "192.0.2.10/24", "2001:db8:0:2::10/64"),
            _of_instance("eth1", "192.0.2.11/24", "2001:db8:0:2::11/64", instance="vrf-red"),
            _of_instance("eth2", "192.0.2.11/24", "2001:db8:0:2::11/64", instance="vrf-blue"),
        ]
    },
    "ietf-system:system": {"authentication": {"user": [{"name": "john", "password": "$0$password"}]}},
}
"""Appendix A: two VRFs with an interface and a process of OSPF each."""


def _node(number: int, *points: str) -> dict[str, Any]:
    layer3 = "ietf-l3-unicast-topology"
    return {
        "node-id": f"D{number}",
        "ietf-network-topology:termination-point": [
            {"tp-id": one, f"{layer3}:l3-termination-point-attributes": {"unnumbered-id": int(one.replace("-", ""))}}
            for one in points
        ],
        f"{layer3}:l3-node-attributes": {
            "router-id": [f"203.0.113.{number}"],
            "prefix": [{"prefix": f"203.0.113.{number}/32"}],
        },
    }


def _link(source: str, source_point: str, target: str, target_point: str) -> dict[str, Any]:
    return {
        "link-id": f"{source},{source_point},{target},{target_point}",
        "source": {"source-node": source, "source-tp": source_point},
        "destination": {"dest-node": target, "dest-tp": target_point},
        "ietf-l3-unicast-topology:l3-link-attributes": {"metric1": "100"},
    }


_ENDS = [("D1", "1-2-1", "D2", "2-1-1"), ("D1", "1-3-1", "D3", "3-1-1"), ("D2", "2-3-1", "D3", "3-2-1")]
RFC8346_TOPOLOGY: Any = {
    "ietf-network:networks": {
        "network": [
            {
                "network-types": {"ietf-l3-unicast-topology:l3-unicast-topology": {}},
                "network-id": "l3-topo-example",
                "node": [
                    _node(1, "1-0-1", "1-2-1", "1-3-1"),
                    _node(2, "2-0-1", "2-1-1", "2-3-1"),
                    _node(3, "3-1-1", "3-2-1"),
                ],
                "ietf-network-topology:link": [
                    _link(*ends) for a, b, c, d in _ENDS for ends in ((a, b, c, d), (c, d, a, b))
                ],
            }
        ]
    }
}
"""Appendix: three nodes, each linked to each, with links in both directions."""
