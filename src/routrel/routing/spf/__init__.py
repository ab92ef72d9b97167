"""Shortest path first: what link-state protocols share.

``advertised`` are the prefixes that routers bring into a flooding scope. ``distances`` finds the costs between all
routers of a graph, ``changed_distances`` those once a few edges are others, ``graph`` the equal-cost next hops on top
of them as bit sets, ``destinations`` any router's way to all that is brought, class by class, ``ways`` the ports that
shortest paths use.

RFC 2328 section 16.1, ISO 10589 annex C.2, over arrays: no loop over (router, prefix).
"""
