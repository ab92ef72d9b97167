"""Configurations and state in the open models of the IETF and of OpenConfig, read as devices of a network.

A document is JSON (RFC 7951), plain or as instance data (RFC 9195), or XML as a NETCONF ``get`` answers it. Both
become one tree of *statements* with their places (``statements.py``). A reader for each model turns statements into a
*draft*: the keys of the network file, each value with the statement that says it. The network file's own grammar and
builder read the draft, so that checks and words are the same, with places in the document.

What no reader looked at is told afterwards: once per kind, with its count, as a gap of the device; a reader that meets
a condition it cannot hold leaves the whole entry out and says so. What decides nothing of where packets go is listed in
``unread.py``.

| model | module here |
|---|---|
| ietf-interfaces, ietf-ip (RFC 8343, 8344), openconfig-interfaces and -vlan | ``interfaces.py`` |
| ietf-vrrp (8347), groups of openconfig-if-ip; written too | ``virtual_routers.py`` |
| ietf-routing (8349), ietf-ospf (9129), ietf-isis (9130), ietf-rip (8695) | ``ietf_routing.py`` |
| openconfig-network-instance with OSPF, IS-IS, static, AFT, policy forwarding | ``openconfig_routing.py`` |
| ietf-bgp as published so far, openconfig-bgp | ``bgp.py`` |
| ietf-routing-policy (9067), openconfig-routing-policy | ``policies.py`` |
| ietf-access-control-list (8519), openconfig-acl | ``access_lists.py`` |
| ietf-system (7317), ietf-network-instance (8529), LLDP | ``device.py`` |
"""
