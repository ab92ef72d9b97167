"""RIP version 2 and RIPng: ``database`` says who hears whom, ``solution`` sends round by round.

Every router announces its own networks at metric 1, what it redistributes at the metric given, and the
RIP routes its table uses, but not out of the interface it heard them by; a receiver adds the metric of
the interface it hears by. 16 is unreachable (RFC 2453 section 3.6). Announcements go round by round, for
all prefixes at once, until nothing changes: since every hop adds at least 1, what is heard at a metric of
k stands after k rounds. Of equal metrics the lowest next hop stays.

What is peculiar:

- Both families are one process here: version 2 runs where interfaces have IPv4 addresses, RIPng where they
  have IPv6 ones.
- A passive interface hears and does not speak (RFC 2453 section 3.10.2 calls such a router silent).
- RipNeighbor is one-way: an access list may stop one direction alone.
- Split horizon, with or without poisoned reverse (RFC 2453 section 3.4.3): where the route was heard by an
  interface, nobody behind that interface is offered it. What a router says on its own account, its
  networks and what it redistributes, it says out of every interface.

Standards: RFC 2453 (RIP version 2), RFC 2080 (RIPng).
"""
