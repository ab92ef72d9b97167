"""The contest: all candidates for one prefix in one routing instance, and the rounds in which each lost.

Nothing here asks the bulk solver which route is best. Each protocol has a part of its own (``ospf/``, ``isis/``,
``rip/``, ``eigrp/``, ``bgp/``): a plain engine for one prefix at a time over what routers announce, and the
candidates, rounds and stops that follow. ``protocol.py`` is their contract, with all that a part may read of the
solver; ``registry.py`` finds them by name. ``paths`` walks one graph at a time with plain Dijkstra; ``policies``
asks a policy route by route; ``rounds`` eliminates. The winner is then the table's: a property test holds the two
together.

``absence`` follows a prefix from its origins to where it stops (``trail``, ``separation``). ``tipping`` finds the
values at which a winner would change. ``explainer`` is the one door to all of it, ``why`` makes the answer.
"""
