"""BGP: sessions, propagation and decision over a whole network.

How it is built:

- ``sessions`` pairs what both ends are told and says, by the tables of the moment, which sessions are up.
- ``paths`` interns path attributes: a path is a row of numbers, AS paths and community sets are numbers too,
  so that a router's routes over all columns are one array of path numbers.
- ``messages`` makes of a router's best paths what a neighbour hears: split by reflection rules, changed by
  export and import policies, checked for loops.
- ``decision`` is RFC 4271 section 9.1.2 in the order of the network file's page, over arrays.
- ``propagation`` sends until nothing changes: all speakers at once; what comes round that way, one speaker
  after the other; what comes round then too has no stable state.
- ``course`` keeps who told whom what, round by round; ``replay`` solves a network with other sessions or policies
  beside it, so that only speakers that hear something else decide again.
- ``findings`` reports what does not come up, does not settle or hangs on timing.
- ``solution`` joins these with the tables: next hops resolve through them, networks and redistributed
  routes come from them, and a path that the table does not use is not announced.

RFC 4271 (BGP-4), 4456 (route reflection), 4760 (IPv6), 1997 and 8092 (communities), 8212 (policies required).
"""
