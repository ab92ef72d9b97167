"""EIGRP with the classic composite metric: ``database`` says who hears whom, ``solution`` passes vectors on.

A route carries a vector: the least bandwidth and the sum of delays on its way, and for external routes a
base metric. Each router takes the vector with the lowest composite metric and passes that one on; so the
best way of a neighbour, not every way, is what a router can build on. Starting from the routers' own
networks, vectors go round until nothing changes: every hop adds delay, so this ends.

What is peculiar:

- Both families are one process here, as with RIP.
- ``feasibility``: a neighbour is a feasible successor where what it reports of itself is less than the
  router's own best metric (section 4.1); with a variance, feasible successors within it are used too.
- Internal routes are preferred to external ones of the same prefix (section 3).
- ``distance`` gives routes of one neighbour a preference of their own; of several successors those with
  the lowest preference are used.
- The topology table stands apart from the routing table: a route that another protocol beats there is
  still passed on.

Standard: RFC 7868 (section 5.6.1 for the classic metric: K1 = K3 = 1, the others 0).
"""
