"""OSPF version 2 (RFC 2328).

``database`` derives from the topology what routers would advertise: per area, directed edges between
routers and the prefixes each router brings (router- and network-LSAs, section 12.4). ``area`` computes
shortest paths within one area for all its routers at once (section 16.1). ``solution`` joins the areas:
border routers condense and pass on (sections 12.4.3 and 16.2), and any router's routes can be asked for.

What is peculiar:

- A broadcast network is not a vertex. Its cost back to a router is 0 (section 16.1), so "router to
  network to router" is one edge at the sender's cost, and the network itself is a prefix that each
  attached router brings at its own cost. The distances and equal-cost sets are the same.
- Equal-cost next hops are bit sets over a router's outgoing edges, filled in by comparing
  ``w(s, v) + d(v, t) == d(s, t)`` over whole arrays.
- Nothing is computed per (router, prefix) ahead of time: a router's row over all prefixes is a few array
  operations, done when it is asked for.

Standards: RFC 2328 (OSPF version 2), RFC 6860 (hiding transit-only networks: not used).
"""
