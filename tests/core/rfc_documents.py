"""What the examples of RFC 8343, 8344 and 8349 say, retyped as JSON: the devices' configuration, and what they tell."""

from typing import Any


def _interfaces(*entries: dict[str, Any]) -> dict[str, Any]:
    return {"ietf-interfaces:interfaces": {"interface": list(entries)}}


def _interface(name: str, kind: str, **leaves: Any) -> dict[str, Any]:
    return {"name": name, "type": f"iana-if-type:{kind}", **{key.replace("_", "-"): one for key, one in leaves.items()}}


RFC8343_CONFIGURED = _interfaces(
    _interface("eth0", "ethernetCsmacd", enabled=False),
    _interface("eth1", "ethernetCsmacd", enabled=True) | {"example-vlan:vlan-tagging": True},
    _interface("eth1.10", "l2vlan", enabled=True) | {"example-vlan:base-interface": "eth1", "example-vlan:vlan-id": 10},
    _interface("lo1", "softwareLoopback", enabled=True),
)
"""Appendix D: eth0 off, eth1 with a VLAN on it, a loopback; VLANs by a module of the example's own."""


def _told(name: str, kind: str, is_up: bool, index: int, **more: Any) -> dict[str, Any]:
    state = "up" if is_up else "down"
    began = {"discontinuity-time": "2013-04-01T03:00:00+00:00"}
    return _interface(name, kind, admin_status=state, oper_status=state, if_index=index, statistics=began, **more)


RFC8343_TOLD = _interfaces(
    _told("eth0", "ethernetCsmacd", False, 2, enabled=False, phys_address="00:01:02:03:04:05"),
    _told("eth1", "ethernetCsmacd", True, 7, phys_address="00:01:02:03:04:06", higher_layer_if=["eth1.10"]),
    _told("eth1.10", "l2vlan", True, 9, lower_layer_if=["eth1"]),
    _told("eth2", "ethernetCsmacd", False, 8, phys_address="00:01:02:03:04:07"),
    _told("lo1", "softwareLoopback", True, 1),
)
"""Appendix E: the same device as it runs; eth2 is there and not configured."""

RFC8344_CONFIGURED = _interfaces(
    _interface("eth0", "ethernetCsmacd")
    | {
        "ietf-ip:ipv4": {"address": [{"ip": "192.0.2.1", "prefix-length": 24}]},
        "ietf-ip:ipv6": {
            "mtu": 1280,
            "address": [{"ip": "2001:db8::10", "prefix-length": 32}],
            "dup-addr-detect-transmits": 0,
        },
    }
)
"""Appendix A."""

RFC8344_TOLD = _interfaces(
    _interface("eth0", "ethernetCsmacd")
    | {
        "ietf-ip:ipv4": {
            "enabled": True,
            "forwarding": False,
            "mtu": 1500,
            "address": [{"ip": "192.0.2.1", "prefix-length": 24, "origin": "static"}],
            "neighbor": [{"ip": "192.0.2.2", "link-layer-address": "00:01:02:03:04:05"}],
        },
        "ietf-ip:ipv6": {
            "enabled": True,
            "forwarding": False,
            "mtu": 1280,
            "address": [
                {"ip": "2001:db8::10", "prefix-length": 32, "origin": "static", "status": "preferred"},
                {"ip": "2001:db8::1:100", "prefix-length": 32, "origin": "dhcp", "status": "preferred"},
            ],
            "dup-addr-detect-transmits": 0,
            "neighbor": [
                {
                    "ip": "2001:db8::1",
                    "link-layer-address": "00:01:02:03:04:05",
                    "origin": "dynamic",
                    "is-router": [None],
                    "state": "reachable",
                },
                {"ip": "2001:db8::4", "origin": "dynamic", "state": "incomplete"},
            ],
        },
    }
)
"""Appendix B: the same interface as it runs; a second IPv6 address came by DHCP."""


def _rib(family: str, routes: list[tuple[str, dict[str, str], int, str]]) -> dict[str, Any]:
    listed = [
        {
            f"ietf-{family}-unicast-routing:destination-prefix": prefix,
            "next-hop": hop,
            "route-preference": preference,
            "source-protocol": f"ietf-routing:{source}",
            "last-updated": "2015-10-24T17:11:27+02:00",
        }
        for prefix, hop, preference, source in routes
    ]
    return {
        "name": f"{family}-master",
        "address-family": f"ietf-routing:{family}",
        "default-rib": True,
        "routes": {"route": listed},
    }


def _by_address(family: str, address: str) -> dict[str, str]:
    return {f"ietf-{family}-unicast-routing:next-hop-address": address}


def _static(family: str, prefix: str, next_hop: str) -> dict[str, Any]:
    route = {"destination-prefix": prefix, "next-hop": {"next-hop-address": next_hop}}
    return {f"ietf-{family}-unicast-routing:{family}": {"route": [route]}}


RFC8349_ROUTER = _interfaces(
    _interface("eth0", "ethernetCsmacd", phys_address="00:0C:42:E5:B1:E9", oper_status="up")
    | {
        "ietf-ip:ipv4": {"forwarding": True, "address": [{"ip": "192.0.2.1", "prefix-length": 24}]},
        "ietf-ip:ipv6": {"forwarding": True, "address": [{"ip": "2001:db8:0:1::1", "prefix-length": 64}]},
    },
    _interface("eth1", "ethernetCsmacd")
    | {
        "ietf-ip:ipv4": {"forwarding": True, "address": [{"ip": "198.51.100.1", "prefix-length": 24}]},
        "ietf-ip:ipv6": {"forwarding": True, "address": [{"ip": "2001:db8:0:2::1", "prefix-length": 64}]},
    },
) | {
    "ietf-routing:routing": {
        "router-id": "192.0.2.1",
        "control-plane-protocols": {
            "control-plane-protocol": [
                {
                    "type": "ietf-routing:static",
                    "name": "st0",
                    "description": "Static routing is used for the internal network.",
                    "static-routes": _static("ipv4", "0.0.0.0/0", "192.0.2.2")
                    | _static("ipv6", "::/0", "2001:db8:0:1::2"),
                }
            ]
        },
        "ribs": {
            "rib": [
                _rib(
                    "ipv4",
                    [
                        ("192.0.2.1/24", {"outgoing-interface": "eth0"}, 0, "direct"),
                        ("198.51.100.0/24", {"outgoing-interface": "eth1"}, 0, "direct"),
                        ("0.0.0.0/0", _by_address("ipv4", "192.0.2.2"), 5, "static"),
                    ],
                ),
                _rib(
                    "ipv6",
                    [
                        ("2001:db8:0:1::/64", {"outgoing-interface": "eth0"}, 0, "direct"),
                        ("2001:db8:0:2::/64", {"outgoing-interface": "eth1"}, 0, "direct"),
                        ("::/0", _by_address("ipv6", "2001:db8:0:1::2"), 5, "static"),
                    ],
                ),
            ]
        },
    }
}
"""Appendix D: a router with two interfaces, a default route in each family, and its tables."""
