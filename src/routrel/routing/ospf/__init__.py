"""OSPF versions 2 and 3.

``database`` derives from the topology what routers would advertise: per area, directed edges between
routers and the prefixes each router brings (router- and network-LSAs, RFC 2328 section 12.4); ``adjacencies``
which interfaces of a segment become neighbours. Of a network solved before, processes of devices that are the
same, segments on which only such ones stand, and areas of which all routers are such are taken over. ``area_graphs``
has the areas as graphs, ``route_maker`` makes routes of several processes by them, over all columns or some, and
``areas`` joins the areas: border routers condense and pass on (sections 12.4.3 and 16.2), stub areas get defaults.
``externals`` holds what is put in from outside: AS-external and NSSA LSAs, their translation, and the
comparison of section 16.4. ``solution`` puts a router's routes together, ``supports`` tells what each
rests on.

What is peculiar:

- A vertex is a *process*: one OSPF instance of one routing instance of a device. The two versions are
  solved apart; several instances of one version stand side by side in one graph.
- A broadcast network is not a vertex. Its cost back to a router is 0 (section 16.1), so "router to
  network to router" is one edge at the sender's cost, and the network itself is a prefix that each
  attached router brings at its own cost. The distances and equal-cost sets are the same.
- A router that can bring routes from outside is a destination of its own, numbered after the prefixes:
  its way to other areas is that of a summary (type 4), without ranges.
- Equal-cost next hops are bit sets over a router's outgoing edges, filled in by comparing
  ``w(s, v) + d(v, t) == d(s, t)`` over whole arrays.
- Nothing is computed per (router, prefix) ahead of time: a router's row over all prefixes is a few array
  operations, done when it is asked for. External routes are held as classes: prefixes that the same
  routers bring in the same way are decided once.

Standards: RFC 2328 (OSPF version 2), RFC 3101 (NSSA), RFC 5340 (OSPF version 3), RFC 6860 (hiding
transit-only networks: not used).
"""
