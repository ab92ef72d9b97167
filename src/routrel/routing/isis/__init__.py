"""IS-IS for IPv4 and IPv6, levels 1 and 2.

``database`` derives from the topology who hears whom at which level, and which prefixes each router
brings. ``solution`` computes the two levels, passes level 1 up and, where a policy lets it, level 2 down,
and puts a router's routes together.

What is peculiar:

- One topology serves both families (RFC 5308): a path may lead over a neighbour that has no address of
  the prefix's family; such a next hop cannot be used and is left out.
- A broadcast network is not a vertex: its cost back to a router is 0, so "router to network to router" is
  one edge at the sender's metric.
- Level 1 areas are graphs of their own, since level 1 neighbours share the area address (ISO 10589
  section 8.4); level 2 is one graph over all.
- Narrow and wide metrics are different statements in a link-state packet, and a router reads its own kind
  only (RFC 5305 section 5): neighbours of different kinds have no path over each other.
- What is redistributed goes into level 2 where the router has it, else into level 1, and counts like an
  internal metric.

Standards: ISO 10589, RFC 1195 (IPv4), RFC 5302 (levels 1 and 2, the order of preference in section 3.2),
RFC 5305 (wide metrics), RFC 5308 (IPv6), RFC 5130 (tags).
"""
