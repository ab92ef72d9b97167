"""The contest: all candidates for one prefix in one routing instance, and the rounds in which each lost.

Nothing here asks the bulk solver which route is best. ``paths`` walks one graph at a time with plain
Dijkstra; ``ospf``, ``isis`` and ``vectors`` gather a protocol's candidates from what routers announce, one
by one; ``policies`` asks a policy route by route; ``rounds`` eliminates. The winner is then the table's: a
property test holds the two together. ``absence`` follows a prefix from its origins to where it stops.
``tipping`` finds the values at which a winner would change.
"""
